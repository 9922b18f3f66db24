"""Text about very many entries, made by several processes."""

from collections.abc import Callable, Iterator

import numpy as np
from numpy.typing import NDArray

from fiat.engine.processes import in_order

_PIECE = 25_000
"""Entries that a process writes before it hands the text over; for fewer no other is started."""


def by_several(
    places: NDArray[np.int64], write: Callable[[NDArray[np.int64]], Iterator[str]], between: str = ""
) -> Iterator[str]:
    """What ``write`` makes of the places, some at a time, with ``between`` in between."""

    def piece(number: int) -> str:
        return between.join(write(places[number * _PIECE : (number + 1) * _PIECE]))

    return in_order(-(-len(places) // _PIECE), piece)
