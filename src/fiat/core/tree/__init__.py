"""Routes, whole trees, and a host as it would be.

The doors of this room: ``walk`` (the route to a path), ``reading`` (the one walk of
a tree, into a ``survey`` of profiles), ``answers`` (who may do what with all of
it), ``asif`` (a host seen through a supposed change).
"""

__all__ = (
    "answerkeys",
    "answers",
    "asif",
    "assembly",
    "distinct",
    "inside",
    "names",
    "natural",
    "postures",
    "profile",
    "profiles",
    "reading",
    "summary",
    "survey",
    "walk",
)
