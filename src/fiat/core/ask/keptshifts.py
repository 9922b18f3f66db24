"""Gains and losses in words: as the history keeps them, and as they are shown."""

from collections.abc import Iterable
from typing import NamedTuple

from fiat.core.ask.effects import Shift
from fiat.core.words import naming


class KeptShift(NamedTuple):
    """A gain or a loss as it is kept: who, as a word that a command line takes, which right, on how many paths.

    ``apart`` as in :class:`fiat.core.ask.effects.Shift`.
    """

    who: str
    right: str
    paths: int
    apart: int


def kept(shifts: Iterable[Shift]) -> tuple[KeptShift, ...]:
    """Gains or losses as the history keeps them, and as they are shown."""
    return tuple(KeptShift(naming.word_for(one.principal), one.right.name, one.paths, one.apart) for one in shifts)
