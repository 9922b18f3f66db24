"""How results look: one model, and its forms.

The doors of this room: ``output`` takes results and shows them as text, JSON, JSON
Lines or CSV; ``model`` is what a result says of itself; ``text`` lays it out. The
other modules are named after the result that they show.
"""

__all__ = (
    "account",
    "arrangements",
    "audit",
    "below",
    "betweenhosts",
    "check",
    "compare",
    "comparetrees",
    "decode",
    "demo",
    "fleet",
    "foresee",
    "frompython",
    "gone",
    "hostanswer",
    "model",
    "output",
    "pager",
    "past",
    "plan",
    "restore",
    "save",
    "sheet",
    "terminal",
    "treerecords",
    "umask",
    "undo",
    "ways",
    "who",
    "why",
    "whyseveral",
    "wordsofhosts",
)
