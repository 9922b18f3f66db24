"""Principals whom nothing in a tree tells apart: one of them answers for all.

Of ten thousand users most own nothing in a tree, are named in none of its
lists, and are in the same few of its groups.
"""

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.principals import Principal, Universe


class Crowd(NamedTuple):
    """A universe in which one principal stands for all that are alike; ``one_of`` is for each the place of that one."""

    universe: Universe
    one_of: NDArray[np.intp]

    def spread(self, bits: int) -> int:
        """The set of all whom the principals in ``bits`` stand for."""
        size = len(self.universe.principals) // 8 + 1
        chosen = np.unpackbits(np.frombuffer(bits.to_bytes(size, "little"), np.uint8), bitorder="little")
        return int.from_bytes(np.packbits(chosen[self.one_of], bitorder="little").tobytes(), "little")

    def standing_for(self, bits: int) -> int:
        """The set of those who stand for any of the principals in ``bits``."""
        size = len(self.one_of) // 8 + 1
        chosen = np.unpackbits(np.frombuffer(bits.to_bytes(size, "little"), np.uint8), bitorder="little")
        ones = np.zeros(len(self.universe.principals), np.uint8)
        ones[self.one_of[np.flatnonzero(chosen[: len(self.one_of)])]] = 1
        return int.from_bytes(np.packbits(ones, bitorder="little").tobytes(), "little")


def crowd(universe: Universe, uids: Iterable[int], gids: Iterable[int]) -> Crowd:
    """Those who are alike where only these users and groups own anything, or are named."""
    owning, sharing = set(uids), frozenset(gids)
    numbers: dict[object, int] = {}
    ones: list[Principal] = []
    one_of = np.empty(len(universe.principals), np.intp)
    for place, who in enumerate(universe.principals):
        uid = who.uid if who.uid in owning else None
        like = (uid, who.gids & sharing, who.capabilities, who.exec_capabilities, who.limits)
        number = numbers.setdefault(like, len(ones))
        if number == len(ones):
            ones.append(who)
        one_of[place] = number
    return Crowd(Universe(ones), one_of)
