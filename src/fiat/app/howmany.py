"""How many people can do something with each entry of a tree, in bands from nobody to anyone."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.app.whobelow import TreeWho
from fiat.core.model import capabilities
from fiat.core.model.right import Right
from fiat.core.tree.summary import Topmost, topmost

NOBODY, _YES, ANYONE, NOT_KNOWN = 0, 1, 5, 6
_UP_TO = (0, 1, 3, 9)
"""The most users of each band but the last two."""

BANDS = (
    "nobody but root",
    "1 user",
    "2 or 3 users",
    "4 to 9 users",
    "10 users or more",
    "anyone",
    "not known of all",
)
OF_SOME = ("no", "yes", "", "", "", "anyone", "not known")
"""The bands, where somebody is named."""


class HowMany(NamedTuple):
    """For each entry of the tree its band, a place in :data:`BANDS`; -1 where it is no matter there, or not meant.

    ``names_somebody`` tells that users or groups were named: then there are just no and yes.
    """

    found: TreeWho
    band: NDArray[np.int8]
    names_somebody: bool

    @property
    def names(self) -> tuple[str, ...]:
        """What the bands are called."""
        return OF_SOME if self.names_somebody else BANDS

    def entries(self) -> list[int]:
        """How many entries are in each band."""
        found: list[int] = np.bincount(self.band[self.band >= 0], minlength=len(BANDS)).tolist()
        return found

    def open_to_anyone(self) -> Iterator[Topmost]:
        """The topmost entries that stand for all that are open to anyone, whoever is named among them."""
        return topmost(self.found.survey, self.band >= 0, self.band == ANYONE)


def how_many(found: TreeWho, right: Right | None = None) -> HowMany:
    """How many have ``right`` on each entry of the tree, one of those that were asked for, or just that."""
    question = found.question
    keys = found.answers.keys
    some = range(len(found.rights)) if right is None else (found.rights.index(right),)
    bands = (
        _band(found, [keys[at][one] for one in some], [keys.open(at)[one] for one in some]) for at in range(len(keys))
    )
    of_key = np.fromiter(bands, np.int8, len(keys))
    band = of_key[found.answers.number] if len(of_key) else np.full(len(found.survey), -1, np.int8)
    if found.meant is not None:
        band = np.where(found.meant, band, np.int8(-1))
    return HowMany(found, band, question.names_somebody)


def _band(found: TreeWho, key: Sequence[int | None], opened: Sequence[int | None]) -> int:
    universe, question = found.universe, found.question
    applies = [(bits, is_open) for bits, is_open in zip(key, opened, strict=True) if bits is not None]
    if not applies:
        return -1
    bits, unsure = applies[0]
    anyone = bits & universe.of_kind("anyone-else")
    if question.names_somebody and not _shows(found, bits):  # an owner may have less than anyone
        return NOT_KNOWN if _shows(found, unsure) else NOBODY
    if anyone:
        return ANYONE
    if question.names_somebody:
        return _YES
    if unsure:
        return NOT_KNOWN
    users = bits & universe.of_kind("user") & ~universe.holders_of(capabilities.DAC_OVERRIDE)
    return next((band for band, most in enumerate(_UP_TO) if users.bit_count() <= most), len(_UP_TO))


def _shows(found: TreeWho, bits: int | None) -> bool:
    return any(found.question.shows(who) for who in found.universe.members(bits or 0))
