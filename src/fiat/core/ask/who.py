"""The answer of ``who``: which principals have which rights on one path."""

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple, Protocol

from fiat.core.model import principals
from fiat.core.model import right as rights_
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.checks import Verdict
from fiat.core.tree.walk import route_for


class Owned(Protocol):
    """Many postures, such as the profiles of a tree."""

    def owners(self) -> tuple[set[int], set[int]]:
        """The numbers of the users and of the groups that own something, or are named in a list."""


def universe_of(
    accounts: Accounts, postures: Iterable[Posture], more: Iterable[Principal] = (), *, profiles: Iterable[Owned] = ()
) -> Universe:
    """Everyone in the database, every number that owns or is named on ``postures`` and ``profiles``, and ``more``."""
    uids: set[int] = set()
    gids: set[int] = set()
    for one in (*set(postures), *profiles):
        owning, sharing = one.owners()
        uids |= owning
        gids |= sharing
    return principals.of_accounts(accounts, uids, gids, more)


def postures_on(routes: Iterable[Route]) -> Iterable[Posture]:
    """The postures of everything walked on ``routes``, and of their ends."""
    return (object_.posture for route in routes for object_ in route.objects)


def groups_on(routes: Iterable[Route | None]) -> frozenset[int]:
    """The groups that own, or are named on, anything walked on ``routes``, or by what runs their ends."""
    return frozenset(gid for posture in _walked(routes) for gid in posture.owners()[1])


def _walked(routes: Iterable[Route | None]) -> Iterator[Posture]:
    for route in routes:
        while route is not None:
            yield from {object_.posture for object_ in route.objects}
            route = route.interpreter


class _View(NamedTuple):
    """Some of those who ask, and the routes that they walk: a process may have mounts of its own."""

    principals: int
    access: Access
    routes: dict[Right, Route]

    def allowed(self, right: Right) -> int:
        return self.principals & self.access.allowed(self.routes[right], right)


class Answer:
    """Who has which right at the end of one route.

    ``rights`` are those asked for; by default those that apply. ``more`` are
    principals beside the accounts, such as processes; one that has mounts of
    its own is answered for by what is at the same path for it. Without an
    ``end`` only rights on names that are not there can be asked for.

    ``allowed`` are those who surely have each right, ``open`` those of whom that is not known.
    """

    def __init__(self, host: Host, route: Route, rights: Sequence[Right] = (), more: Iterable[Principal] = ()) -> None:
        self.accounts = host.accounts
        self.route = route
        self.end = route.end
        kind = route.end.posture.kind if route.end else None
        self.rights = tuple(rights) or tuple(one for one in rights_.BASIC if kind is None or one.applies(kind))
        self.universe = universe_of(host.accounts, postures_on([route]), more)
        self._access = Access(self.universe, host.settings)
        self._verdicts: dict[tuple[int, Right], Verdict] = {}
        self._views = self._seen(host)
        self.allowed = {right: self._allowed(right) for right in self.rights}
        self.open = dict.fromkeys(self.rights, 0)
        if self.universe.unsure:
            self._allow_for_more_groups(host)

    def _seen(self, host: Host) -> list[_View]:
        """The host as those see it who see what Fiat sees, and then as each of the others does."""
        apart = [
            (1 << place, seen)
            for place, who in enumerate(self.universe.principals)
            if (seen := host.seen_by(who)) is not host
        ]
        others = 0
        for bit, _ in apart:
            others |= bit
        return [
            _View(bits, self._access, {right: route_for(seen, self.route.asked, right) for right in self.rights})
            for bits, seen in [(self.universe.everyone & ~others, host), *apart]
        ]

    def _allow_for_more_groups(self, host: Host) -> None:
        """Of those whose groups are not all known: keep what holds whatever they are in, and note what is open."""
        from fiat.core.rules.unsure import possible

        first = self._views[0]
        for right, route in first.routes.items():

            def allowed(universe: Universe, right: Right = right, route: Route = route) -> int:
                return first.principals & Access(universe, host.settings).allowed(route, right)

            found = possible(self.universe, groups_on([route]), allowed)
            unsure = self.universe.unsure
            self.allowed[right] = self.allowed[right] & ~unsure | found.surely & unsure
            self.open[right] = found.open

    def _allowed(self, right: Right) -> int:
        found = 0
        for view in self._views:
            found |= view.allowed(right)
        return found

    def has(self, place: int, right: Right) -> bool | None:
        """Whether the principal at ``place`` has ``right``; None where that was not asked, or is not known."""
        allowed = self.allowed.get(right)
        return None if allowed is None or self.open[right] >> place & 1 else bool(allowed >> place & 1)

    def who_can(self, right: Right | str) -> list[Principal]:
        """Everyone who has ``right``, which is one of those that were asked."""
        asked = rights_.right_named(right) if isinstance(right, str) else right
        return list(self.universe.members(self.allowed[asked]))

    @cached_property
    def alike(self) -> list[int]:
        """For each principal the place of the first one of whom all the same is said."""
        uids: set[int] = set()
        gids: set[int] = set()
        for view in self._views:
            for route in view.routes.values():
                for posture in _walked([route]):
                    owning, sharing = posture.owners()
                    uids |= owning
                    gids |= sharing
        first: dict[object, int] = {}
        found = []
        for place, who in enumerate(self.universe.principals):
            uid = who.uid if who.uid in uids else None
            shared = () if who.gids.isdisjoint(gids) else who.gids & gids
            key = uid, shared, who.capabilities, who.exec_capabilities, who.limits, who.unsure, who.pid
            found.append(first.setdefault(key, place))
        return found

    def verdict(self, place: int, right: Right) -> Verdict:
        """Why the principal at ``place`` has, or has not, ``right``."""
        key = self.alike[place], right
        if key not in self._verdicts:
            self._verdicts[key] = self._verdict(*key)
        return self._verdicts[key]

    def _verdict(self, place: int, right: Right) -> Verdict:
        view = next(view for view in self._views if view.principals >> place & 1)
        return view.access.verdict(view.routes[right], right, place)

    def members(self, gid: int) -> int:
        """The set of users in the group ``gid``."""
        return self.universe.of_kind("user") & self.universe.in_group(gid)

    def stops(self) -> list[tuple[Object | None, str, int]]:
        """Where on the route someone stops: the object, its path, and the set of those who do."""
        found = []
        arriving = self._views[0].principals
        for check in self._access.stage_checks(self.route):
            stopped = arriving & ~check.passers
            arriving &= check.passers
            if stopped:
                found.append((check.object, check.path, stopped))
        return found
