"""Effects: who gains and who loses which right, on how many paths.

One question, asked twice: of a host as it was and of a host as it is, or as it
would be (:mod:`fiat.core.tree.asif`). Previews, guards that speak of people,
supposed memberships and advice all come down to :func:`fiat.core.rules.difference.diff`, so none of them
can disagree with ``who``. Whole trees are compared in
:mod:`fiat.core.ask.treeeffects`.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from fiat.core.ask.who import postures_on, universe_of
from fiat.core.model import right as rights_
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.principals import Principal, Universe, places
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.model.shown import shown
from fiat.core.rules.access import Access
from fiat.core.rules.difference import diff
from fiat.core.tree.walk import route_for
from fiat.core.words import naming

if TYPE_CHECKING:
    from fiat.core.ask.pathsbehind import Entries, TopmostPaths

Sets = Mapping[Right, int | None]
"""For each right the set of principals that have it, None where it does not apply."""


class Shift(NamedTuple):
    """One principal's gain, or loss, of one right, on so many paths.

    ``apart`` is on how many of these the right does not go with the one that it
    nearly always goes with (:attr:`Right.with_right`).
    """

    principal: Principal
    right: Right
    paths: int = 1
    apart: int = 1


class Counted:
    """For each right how many paths each set of principals gained it, or lost it, on, and ``where`` these are."""

    def __init__(self) -> None:
        self.every: dict[Right, dict[int, int]] = {}
        self.apart: dict[Right, dict[int, int]] = {}
        self.where: dict[Right, dict[int, list[Entries | str]]] = {}

    def add(self, found: Mapping[Right, int], paths: int, where: Entries | str | None = None) -> None:
        """Count that those who are ``found`` for each right gained it, or lost it, on so many paths."""
        for right, bits in found.items():
            if bits and where is not None:
                self.where.setdefault(right, {}).setdefault(bits, []).append(where)
            beside = found.get(right.with_right, 0) if right.with_right is not None else 0
            for into, some in ((self.every, bits), (self.apart, bits & ~beside)):
                if some:
                    counts = into.setdefault(right, {})
                    counts[some] = counts.get(some, 0) + paths

    def merge(self, other: Counted) -> None:
        """Add what was counted elsewhere."""
        for mine, theirs in ((self.every, other.every), (self.apart, other.apart)):
            for right, counts in theirs.items():
                known = mine.setdefault(right, {})
                for bits, paths in counts.items():
                    known[bits] = known.get(bits, 0) + paths
        for right, places_of in other.where.items():
            into = self.where.setdefault(right, {})
            for bits, where in places_of.items():
                into.setdefault(bits, []).extend(where)

    def shifts(self, universe: Universe) -> tuple[Shift, ...]:
        """By right, and then in the order of the universe."""
        size = len(universe.principals)
        found = []
        for right in rights_.ALL:
            counts, counts_apart = self.every.get(right, {}), self.apart.get(right, {})
            every = _totals(counts, size)
            apart = every if counts_apart == counts else _totals(counts_apart, size)
            for place, paths in every.items():
                found.append(Shift(universe.principals[place], right, paths, apart.get(place, 0)))
        return tuple(found)


_FEW = 40
"""So many sets are added up one by one before NumPy, which takes long to load, would be faster."""


_SETS = 1024
"""Sets that are added up together."""


def _totals(counts: Mapping[int, int], size: int) -> dict[int, int]:
    """For each principal that is in any of the sets, by place: the sum of their paths."""
    if len(counts) > _FEW:
        return _many_totals(counts, size)
    found: dict[int, int] = {}
    for bits, paths in counts.items():
        for place in places(bits):
            found[place] = found.get(place, 0) + paths
    return dict(sorted(found.items()))


def _many_totals(counts: Mapping[int, int], size: int) -> dict[int, int]:
    import numpy as np

    total = np.zeros(size, np.int64)
    length, every = (size + 7) // 8, list(counts)
    for first in range(0, len(every), _SETS):
        some = every[first : first + _SETS]
        raw = np.frombuffer(b"".join([bits.to_bytes(length, "little") for bits in some]), np.uint8)
        members = np.unpackbits(raw.reshape(-1, length), axis=1, bitorder="little", count=size)
        # in floating point, for which NumPy is fast; numbers of paths are far below 2^53
        paths = np.fromiter(map(counts.__getitem__, some), np.float64, len(some))
        total += (paths @ members.astype(np.float64)).astype(np.int64)
    return {place: int(total[place]) for place in np.flatnonzero(total).tolist()}


class Effects:
    """Gains and losses that were counted, and can be put together with others of the same universe.

    ``at_least`` tells that not everything was counted; ``accounts`` are those of the host after.
    """

    def __init__(self, universe: Universe, *, at_least: bool = False, accounts: Accounts | None = None) -> None:
        self.universe = universe
        self.accounts = accounts
        self.at_least = at_least
        self._gained = Counted()
        self._lost = Counted()

    def __str__(self) -> str:
        return shown(self, repr)

    @property
    def gains(self) -> tuple[Shift, ...]:
        """Everyone's gains, in the order of the rights and of the universe."""
        return self._gained.shifts(self.universe)

    @property
    def losses(self) -> tuple[Shift, ...]:
        """Everyone's losses, in the same order."""
        return self._lost.shifts(self.universe)

    @property
    def paths_gained(self) -> PathsBehind:
        """On which paths the gains are."""
        return PathsBehind(self.universe, self._gained)

    @property
    def paths_lost(self) -> PathsBehind:
        """On which paths the losses are."""
        return PathsBehind(self.universe, self._lost)

    def count(self, before: Sets, after: Sets, paths: int = 1, where: Entries | str | None = None) -> None:
        """Count the difference of two answers that so many paths have, which are ``where``."""
        found = diff(before, after)
        self._gained.add(found.gained, paths, where)
        self._lost.add(found.lost, paths, where)

    def merge(self, other: Effects) -> None:
        """Add what was counted elsewhere for the same universe."""
        assert self.universe.principals == other.universe.principals
        self.at_least |= other.at_least
        self._gained.merge(other._gained)
        self._lost.merge(other._lost)


TOPMOST = 20
"""So many paths are named of a gain or a loss, at most."""

_WORK = 20_000_000
"""Entries that are gone through to name paths; beyond that they are only counted."""


class PathsBehind:
    """The topmost paths of gains, or of losses; what has the very same paths is worked out once."""

    def __init__(self, universe: Universe, counted: Counted) -> None:
        self._places = {naming.word_for(who): place for place, who in enumerate(universe.principals)}
        self._where = counted.where
        self._rights = {right.name: right for right in counted.where}
        self._known: dict[frozenset[tuple[Right, int]], TopmostPaths] = {}
        self._work = 0

    def of(self, wanted: Iterable[tuple[str, str]], most: int = TOPMOST) -> TopmostPaths:
        """The paths of what is ``wanted``: pairs of who, as a word, and the name of a right."""
        from fiat.core.ask.pathsbehind import TopmostPaths, topmost_paths  # loads NumPy

        meant = self._meant(wanted)
        key = frozenset(meant)
        if key not in self._known:
            found = [where for right, bits in meant for where in self._where[right][bits]]
            work = sum(1 if isinstance(where, str) else len(where.survey) for where in found)
            if self._work + work > _WORK:
                return TopmostPaths((), sum(1 if isinstance(where, str) else len(where.places) for where in found))
            self._work += work
            self._known[key] = topmost_paths(found, most)
        return self._known[key]

    def outside(self, wanted: Iterable[tuple[str, str]], tops: Sequence[str]) -> int:
        """How many of the paths of what is ``wanted`` lie neither at nor under any of ``tops``."""
        from fiat.core.ask.pathsbehind import outside

        meant = self._meant(wanted)
        return outside([where for right, bits in meant for where in self._where[right][bits]], tops)

    def _meant(self, wanted: Iterable[tuple[str, str]]) -> list[tuple[Right, int]]:
        """The rights, each with the sets of people, that hold any of what is ``wanted``."""
        asked: dict[Right, int] = {}
        for who, name in wanted:
            right = self._rights.get(name)
            if right is not None and who in self._places:
                asked[right] = asked.get(right, 0) | 1 << self._places[who]
        return [(right, bits) for right, among in asked.items() for bits in self._where[right] if bits & among]


def effects_at(
    before: Host,
    after: Host,
    path: str,
    rights: Sequence[Right] = rights_.ALL,
    among: Iterable[Principal] = (),
) -> Effects:
    """Who gains and who loses what on one path; among the users and groups of both hosts, and ``among``."""
    routes = [(right, route_for(before, path, right), route_for(after, path, right)) for right in rights]
    universes = _universes(before, after, [route for _, one, other in routes for route in (one, other)], among)
    asked, again = (Access(one, host.settings) for one, host in zip(universes, (before, after), strict=True))
    found = Effects(universes[1], accounts=after.accounts)
    had, has = {}, {}
    for right, one, other in routes:
        had[right], has[right] = _allowed(asked, one, right), _allowed(again, other, right)
    found.count(had, has, where=path)
    return found


def _allowed(access: Access, route: Route, right: Right) -> int | None:
    """Who has ``right`` at the end of ``route``; None where it means nothing there."""
    if route.end is None or not right.applies(route.end.posture.kind):
        return None
    return access.allowed(route, right)


def _universes(
    before: Host, after: Host, routes: Sequence[Route], among: Iterable[Principal]
) -> tuple[Universe, Universe]:
    """The same principals in the same places, as they are on either host."""
    more_people = tuple(among)
    postures = list(postures_on(routes))
    one, other = (universe_of(host.accounts, postures, more_people) for host in (before, after))
    return (one, one) if before.accounts is after.accounts else same_people(one, other)


def same_people(one: Universe, other: Universe) -> tuple[Universe, Universe]:
    """Those that are in both universes, in the same places, as they are in either."""
    known = {who.identity: who for who in other.principals}
    both = [who for who in one.principals if who.identity in known]
    return Universe(both), Universe(known[who.identity] for who in both)


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
