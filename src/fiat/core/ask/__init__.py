"""Questions: who and why, what a change does to people, and what is to be known besides.

The doors of this room: ``who`` and ``why`` about one path; ``effects``, the one place
where gains and losses come from, and ``treeeffects`` for whole trees; ``bygroup``
about what an account has to do with a tree; ``acting`` about what people have by acting as others,
``ownmeans`` and ``treemeans`` about what they can bring about by themselves;
``remarks`` and ``caveats``.
"""

__all__ = (
    "acting",
    "bygroup",
    "caveats",
    "effects",
    "ownmeans",
    "pathsbehind",
    "remarks",
    "throughprograms",
    "treecaveats",
    "treeeffects",
    "treemeans",
    "who",
    "why",
)
