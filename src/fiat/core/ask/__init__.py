"""Questions: who and why, what a change does to people, and what is to be known besides.

The doors of this room: ``who`` and ``why`` about one path; ``effects``, the one place
where gains and losses come from, and ``treeeffects`` for whole trees; ``remarks``
and ``caveats``.
"""

__all__ = (
    "caveats",
    "effects",
    "remarks",
    "treecaveats",
    "treeeffects",
    "who",
    "why",
)
