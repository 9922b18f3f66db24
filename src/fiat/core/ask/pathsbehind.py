"""The paths that a gain or a loss is about: kept as places in surveys while it is counted, named when it is asked."""

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.survey import Survey


class Entries(NamedTuple):
    """Some entries of a tree, by their places."""

    survey: Survey
    places: NDArray[np.int64]


class TopmostPaths(NamedTuple):
    """The topmost ``paths`` of some, the first of them, and how many ``more`` there are."""

    paths: tuple[str, ...]
    more: int = 0


def topmost_paths(found: Iterable[Entries | str], most: int) -> TopmostPaths:
    """The topmost of these entries and paths: those in whose directory there is none itself. ``most`` are named."""
    single: dict[str, None] = {}
    marked: dict[int, tuple[Survey, NDArray[np.bool_]]] = {}
    for one in found:
        if isinstance(one, str):
            single[one] = None
            continue
        survey, meant = marked.setdefault(id(one.survey), (one.survey, np.zeros(len(one.survey), np.bool_)))
        meant[one.places] = True
    names, more = list(single), 0
    for survey, meant in marked.values():
        places = np.flatnonzero(meant)
        parents = survey.parent[places]
        tops = places[(parents < 0) | ~meant[np.maximum(parents, 0)] | (places == 0)]
        room = max(most - len(names), 0)
        names += [path for _, path in survey.paths_of(tops[:room].tolist())]
        more += max(len(tops) - room, 0)
    return TopmostPaths(tuple(names[:most]), more + max(len(names) - most, 0))
