"""What a person types, and how things are called.

The doors of this room: ``notation`` (any word for permissions), ``entries`` and
``selection`` and ``who`` (words of a command line), ``naming`` (names for users,
groups, principals, entries), ``commands`` (a wish as a command line).
"""

__all__ = (
    "accountfiles",
    "arrangements",
    "commands",
    "configuration",
    "elevations",
    "entries",
    "modes",
    "naming",
    "notation",
    "selection",
    "toml",
    "who",
)
