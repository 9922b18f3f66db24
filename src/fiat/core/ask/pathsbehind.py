"""The paths that a gain or a loss is about: kept as places in surveys while it is counted, named when it is asked."""

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.route import lies_under
from fiat.core.tree.survey import Survey


class Entries(NamedTuple):
    """Some entries of a tree, by their places."""

    survey: Survey
    places: NDArray[np.int64]


class TopmostPaths(NamedTuple):
    """The topmost ``paths`` of some, the first of them, and how many ``more`` there are."""

    paths: tuple[str, ...]
    more: int = 0


def outside(found: Iterable[Entries | str], tops: Sequence[str]) -> int:
    """How many of these entries and paths lie neither at nor under any of ``tops``."""
    marked: dict[int, tuple[Survey, NDArray[np.bool_]]] = {}
    single: set[str] = set()
    for one in found:
        if isinstance(one, str):
            single.add(one)
            continue
        survey, meant = marked.setdefault(id(one.survey), (one.survey, np.zeros(len(one.survey), np.bool_)))
        meant[one.places] = True
    count = sum(not any(lies_under(path, top) for top in tops) for path in single)
    for survey, meant in marked.values():
        if any(lies_under(survey.top.path, top) for top in tops):
            continue
        within = [top for top in tops if lies_under(top, survey.top.path)]
        left = meant.copy()
        for place, path in survey.paths_of(np.flatnonzero(meant | survey.directories()).tolist()) if within else ():
            if path in within:
                left[place : int(survey.end[place])] = False
        count += int(left.sum())
    return count


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
