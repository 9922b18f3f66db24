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
    "charts",
    "check",
    "compare",
    "comparetrees",
    "configuration",
    "decode",
    "demo",
    "fleet",
    "foresee",
    "frompython",
    "gone",
    "hostanswer",
    "kept",
    "model",
    "output",
    "page",
    "pager",
    "past",
    "plan",
    "restore",
    "runwords",
    "save",
    "sheet",
    "shownchange",
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
