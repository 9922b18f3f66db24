"""What could not be looked at."""

from typing import NamedTuple


class Trouble(NamedTuple):
    """Something under a tree that could not be looked at, with the errno."""

    path: str
    errno: int
