"""Changing: from a wish to a plan, past the guards, applied and put back.

The doors of this room: ``plan`` (what a wish does to many paths), ``guards``,
``apply``, ``undo``, ``history`` (what a history is asked for).
"""

__all__ = (
    "apply",
    "claims",
    "copyup",
    "guards",
    "history",
    "liketree",
    "making",
    "plan",
    "planned",
    "privilege",
    "rewriting",
    "steps",
    "target",
    "together",
    "undo",
)
