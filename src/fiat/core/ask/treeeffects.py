"""Effects on whole trees: where two answers about the same tree differ.

What a difference means is :mod:`fiat.core.ask.effects`'s; here it is found for
many entries at once.
"""

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.effects import Effects, Sets
from fiat.core.ask.pathsbehind import Entries
from fiat.core.ask.who import universe_of
from fiat.core.model import right as rights_
from fiat.core.model.host import Host
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Universe
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.decision import Decisions
from fiat.core.rules.difference import people_concerned
from fiat.core.tree.answerkeys import AnswerKeys
from fiat.core.tree.answers import Reached, TreeAccess
from fiat.core.tree.distinct import distinct_values
from fiat.core.tree.profile import Profile
from fiat.core.tree.survey import Survey


class View(NamedTuple):
    """One tree on one host: the route to its top, and what was surveyed there."""

    route: Route
    survey: Survey


Matched = tuple[NDArray[np.int64], NDArray[np.int64]]
"""Entries of two surveys, by their places in either: those at the same place of the two are compared."""


class Pair(NamedTuple):
    """One tree before and after; its top counts elsewhere if ``without_top``.

    Where nothing else is ``matched``, the same entries stand in the same places. Either way, profiles go by the
    same numbers on both sides.
    """

    before: View
    after: View
    without_top: bool = False
    matched: Matched | None = None

    @property
    def places(self) -> Matched:
        """The places of the entries that are compared."""
        everything = np.arange(len(self.before.survey))
        return self.matched or (everything, everything)


class AnswerDifference(NamedTuple):
    """Entries with one and the same pair of answers, of which the rights are named where these differ; by their places
    before, and after."""

    before: Sets
    after: Sets
    places: NDArray[np.int64]
    others: NDArray[np.int64]


class Asker:
    """Two hosts, of which the same is asked; ``universes`` hold the same principals in the same places on either."""

    def __init__(
        self, before: Host, after: Host, universes: tuple[Universe, Universe], rights: Sequence[Right] = rights_.ALL
    ) -> None:
        then, now = universes
        self.universe = now
        self.accounts = after.accounts
        self.rights = tuple(rights)
        self.same_people = then is now and before.settings == after.settings
        access = Access(then, before.settings)
        self.before = TreeAccess(before, access, rights)
        self.after = TreeAccess(after, access if self.same_people else Access(now, after.settings), rights)

    def differences(self, pair: Pair) -> Iterator[AnswerDifference]:
        """Where the answers about one tree differ.

        Only entries of which anything differs are asked about: their own
        profile, that of the directory which holds their name, who gets there,
        or what runs them.
        """
        one, other = pair.before, pair.after
        then = self.before.reached(one.survey, self.before.reach(one.route))
        now = self.after.reached(other.survey, self.after.reach(other.route))
        places, others = pair.places
        if self.same_people:
            may_differ = _may_differ(pair, self.before, self.after, (then, now))
            places, others = places[may_differ], others[may_differ]
        if not len(places):
            return
        had = self.before.answers(one.survey, one.route, places, then)
        has = self.after.answers(other.survey, other.route, others, now)
        pairs = had.number.astype(np.int64) * len(has.keys) + has.number
        distinct, number = distinct_values(pairs)
        order = np.argsort(number, kind="stable")
        bounds = np.searchsorted(number[order], np.arange(len(distinct) + 1)).tolist()
        befores, afters, sets = _side_by_side((had.keys, has.keys), *np.divmod(distinct, len(has.keys)))
        differs = befores != afters
        for which in np.flatnonzero(differs.any(axis=1)).tolist():
            where = np.flatnonzero(differs[which])
            asked = [self.rights[one] for one in where.tolist()]
            before, after = (
                dict(zip(asked, map(sets.__getitem__, one[which, where].tolist()), strict=True))
                for one in (befores, afters)
            )
            some = order[bounds[which] : bounds[which + 1]]
            yield AnswerDifference(before, after, places[some], others[some])


def _side_by_side(
    keys: tuple[AnswerKeys, AnswerKeys], before: NDArray[np.int64], after: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64], list[int | None]]:
    """For each of the answers before and after the numbers of its sets, and the sets, numbered for both alike: each is
    made a whole number once."""
    known: dict[int | None, int] = {None: 0}
    found = []
    for of, which in zip(keys, (before, after), strict=True):
        numbers = of.numbers[which]
        used, places = distinct_values(numbers.ravel().astype(np.int64) + 1)
        sets = (None if number < 0 else of.table[number] for number in (used - 1).tolist())
        joint = np.array([known.setdefault(one, len(known)) for one in sets], np.int64)
        found.append(joint[places].reshape(numbers.shape))
    return found[0], found[1], list(known)


def effects(asking: Asker, pairs: Iterable[Pair]) -> Effects:
    """Who gains and who loses which right, on how many paths of the trees in ``pairs``."""
    found = Effects(asking.universe, accounts=asking.accounts)
    for pair in pairs:
        found.at_least |= not pair.before.survey.complete
        for difference in asking.differences(pair):
            there = Entries(pair.after.survey, difference.others)
            found.count(difference.before, difference.after, len(difference.places), there)
    return found


def _may_differ(
    pair: Pair, asked: TreeAccess, again: TreeAccess, reached: tuple[Reached, Reached]
) -> NDArray[np.bool_]:
    """For each entry that is compared, whether any answer about it can be another."""
    one, other = pair.before.survey, pair.after.survey
    places, others = pair.places
    differs: NDArray[np.bool_] = one.profile[places] != other.profile[others]
    parent, above = np.maximum(one.parent[places], 0), np.maximum(other.parent[others], 0)
    # who gets into the directory of each, before and after
    before, after = reached
    got, gets = before.number[parent].astype(np.int64), after.number[above]
    inside = (got >= 0) & (gets >= 0)  # the top may be no directory
    distinct, which = distinct_values(np.where(inside, got * (len(after.sets) + 1) + gets, 0))
    opens = np.zeros(len(distinct), np.bool_)
    for place, value in enumerate(distinct.tolist()):
        number, rest = divmod(value, len(after.sets) + 1)
        opens[place] = rest < len(after.sets) and before.sets[number] != after.sets[rest]
    found: NDArray[np.bool_] = differs | (one.profile[parent] != other.profile[above]) | (opens[which] & inside)
    tops = (places == 0) | (others == 0)
    at_top = bool(
        asked.reach(pair.before.route) != again.reach(pair.after.route)
        or pair.before.route.parent != pair.after.route.parent
    )
    found[tops] = differs[tops] | at_top
    if rights_.EXECUTE in asked.rights:
        found |= one.profiles.by_rest(lambda rest: _runs_otherwise(rest, asked, again))[one.profile[places]]
    if pair.without_top:
        found[tops] = False
    return found


def _runs_otherwise(rest: Profile, asked: TreeAccess, again: TreeAccess) -> bool:
    """Whether a program is now run with something else."""
    return rest.program is not None and asked.runs_with(rest.program) != again.runs_with(rest.program)


# --- among whom ----------------------------------------------------------------------


def universe_for(host: Host, changed: Iterable[tuple[Posture, Posture]], pairs: Sequence[Pair]) -> Universe:
    """Everyone who can gain or lose by changes of postures from the first to the second of each pair.

    Whom one change concerns is said by :func:`fiat.core.rules.difference.people_concerned`.
    """
    distinct = list(dict.fromkeys(changed))
    postures = [posture for one in distinct for posture in one]
    postures += [found.posture for pair in pairs for found in pair.before.route.objects]
    whole = universe_of(host.accounts, postures, profiles=[pair.before.survey.profiles for pair in pairs])
    decisions = Decisions(whole)
    among = 0
    for one, other in distinct:
        some = people_concerned(decisions, one, other)
        if some is None or among | some == whole.everyone:
            return whole
        among |= some
    return whole.only(among)
