"""Where in a tree something holds: the topmost entries below which it holds everywhere, or nearly."""

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.survey import Survey

_BUT = 3
"""So many exceptions at most are named of a directory, where it holds for ten times as many."""


class Topmost(NamedTuple):
    """An entry, and on how many of those that are meant at and under it the same holds.

    ``itself`` tells whether it is one of them. ``but`` are the places under it where it does not hold.
    """

    place: int
    paths: int
    itself: bool
    but: tuple[int, ...] = ()


def topmost(survey: Survey, meant: NDArray[np.bool_], holds: NDArray[np.bool_]) -> Iterator[Topmost]:
    """The topmost entries, in the order of the survey, that together stand for all those of which it ``holds``.

    Only what is ``meant`` counts. A directory stands for all under it, where it
    holds for itself and for all of these, or for all but a few; one that is not
    meant itself, where all that is meant under it are several.
    """
    places = np.arange(len(survey))
    whole, having = (_sums(one)[survey.end] - _sums(one)[places] for one in (meant, meant & holds))
    lacking = whole - having
    few = (lacking == 0) | ((lacking <= _BUT) & (having >= 10 * lacking))
    stands = survey.directories() & few & np.where(meant, holds, (having > 1) & (lacking == 0))
    # what is under one of them is told with it
    edges = np.zeros(len(survey) + 1, np.int64)
    np.add.at(edges, places[stands] + 1, 1)
    np.add.at(edges, survey.end[stands], -1)
    covered = np.cumsum(edges[:-1]) > 0
    shown = (stands | (meant & holds)) & ~covered
    for place in np.flatnonzero(shown).tolist():
        end = int(survey.end[place]) if stands[place] else place + 1
        but = np.flatnonzero(meant[place:end] & ~holds[place:end]) + place if lacking[place] else ()
        paths = int(having[place]) if stands[place] else 1
        yield Topmost(place, paths, bool(meant[place]), tuple(int(one) for one in but))


def _sums(values: NDArray[np.bool_]) -> NDArray[np.int64]:
    """How many there are before each place."""
    return np.concatenate([np.zeros(1, np.int64), np.cumsum(values, dtype=np.int64)])
