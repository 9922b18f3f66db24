"""How much of a tree is read."""

from typing import NamedTuple


class Extent(NamedTuple):
    """How much of a tree is read.

    Other file systems mounted in it are left out unless ``across_mounts``.
    With ``one_level`` nothing below the names in the top directory is read.
    ``details`` asks for sizes, times and the targets of links as well.
    Reading stops after about ``most`` entries, where that is given.
    """

    across_mounts: bool = False
    one_level: bool = False
    details: bool = False
    most: int | None = None
