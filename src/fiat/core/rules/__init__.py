"""Every rule of access and of change, each once.

The doors of this room: ``access`` (who may do what along a route), ``decision``
(one posture, everyone at once), ``sideeffects`` (what the kernel does by itself),
``attributes`` (who may change a posture), ``programs`` (what execve(2) sees),
``secretkinds`` (what a secret begins with), ``elevation`` (who may act as whom), ``unsure``
(what holds for people whose groups are not all known), and ``difference`` (before and after: the
one place where two answers are compared).
"""

__all__ = (
    "access",
    "attributes",
    "checks",
    "decision",
    "difference",
    "effective",
    "elevation",
    "handlers",
    "inheritance",
    "privilege",
    "programs",
    "secretkinds",
    "sideeffects",
    "unsure",
)
