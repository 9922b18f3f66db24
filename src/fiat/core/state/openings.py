"""Whether giving back what was lost would give somebody more: what was shut away behind a directory then may be open
by now, and who would get something then who never had it is no loser.

Source: path_resolution(7): access goes by the whole way, and postures alone do not say who had it.
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.treeeffects import View
from fiat.core.ask.who import postures_on, universe_of
from fiat.core.model import right as rights
from fiat.core.model.host import Host
from fiat.core.model.posture import Identity, Posture
from fiat.core.model.principals import Universe
from fiat.core.state.matching import Matching
from fiat.core.state.restoring import Restoring
from fiat.core.tree.answers import for_tree
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.distinct import distinct_columns
from fiat.core.tree.postures import postures_of_many
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import walk

_RIGHTS = (rights.READ, rights.WRITE, rights.EXECUTE)

Places = NDArray[np.int64]


def opening_more(earlier: Host, host: Host, views: tuple[View, View], matching: Matching, found: Restoring) -> Places:
    """Of what would be put back in a tree of ``host``, the places by which somebody would get something, there or
    below, that they have not got now, and had not got in the ``earlier`` state; ``views`` are the tree then and now."""
    then, now = views
    chosen = np.flatnonzero(found.chosen)
    if not len(chosen):
        return chosen
    goals: dict[Identity, Posture] = {}
    for place, number in zip(chosen.tolist(), found.survey.profile[chosen].tolist(), strict=True):
        goals[found.survey.identity(place)] = found.goals.postures[number]
    supposed = postures_of_many(goals)
    after_host = HostAsIf(host, Supposition(supposed))
    after = View(walk(after_host, now.survey.top.path), supposed.on(now.survey))
    profiles = [view.survey.profiles for view in (then, now, after)]
    postures = {*postures_on([then.route, now.route, after.route])}
    universe = universe_of(host.accounts, postures, profiles=profiles)
    had, has, would = (_Answers(*one, universe) for one in ((earlier, then), (host, now), (after_host, after)))
    place_then = np.full(len(now.survey), -1, np.int64)
    place_then[matching.after] = matching.before
    people = (universe.of_kind("user") | universe.of_kind("anyone-else")) & ~universe.with_uid(0)
    first, number = distinct_columns(would.number, has.number, np.where(place_then < 0, -1, had.number[place_then]))
    more = np.zeros(len(first), np.bool_)
    for which, place in enumerate(first.tolist()):
        threes = zip(would.at(place), has.at(place), had.at(int(place_then[place])), strict=True)
        more[which] = any(new & ~now_ & ~old & people for new, now_, old in threes)
    return _causes(now.survey, found.chosen, np.flatnonzero(more[number]))


def _causes(survey: Survey, chosen: NDArray[np.bool_], opened: Places) -> Places:
    """What is chosen of the places that would be opened, and of the directories that they lie in."""
    found: set[int] = set()
    seen: set[int] = set()
    for place in opened.tolist():
        while place >= 0 and place not in seen:
            seen.add(place)
            if chosen[place]:
                found.add(place)
            place = int(survey.parent[place])
    return np.array(sorted(found), np.int64)


class _Answers:
    """For each entry of a tree who has each right on it; nobody on what is not there."""

    def __init__(self, host: Host, view: View, universe: Universe) -> None:
        found = for_tree(host, universe, _RIGHTS, view.route, view.survey).answers(view.survey, view.route)
        self.number = found.number.astype(np.int64)
        self._sets = found.keys

    def at(self, place: int) -> Sequence[int]:
        """Who has each right at this place."""
        if place < 0:
            return (0,) * len(_RIGHTS)
        sets = self._sets.numbers[int(self.number[place])].tolist()
        return [self._sets.table[one] if one >= 0 else 0 for one in sets]
