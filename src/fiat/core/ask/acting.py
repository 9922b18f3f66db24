"""What people can do by acting as others, where the rules of elevation let them."""

from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from fiat.core.ask.who import Answer
from fiat.core.model.accounts import User
from fiat.core.model.host import Host
from fiat.core.model.principals import Principal, Universe, of_account
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.elevation import Grant, Matcher

_DEEPEST = 4
"""Accounts that somebody acts as one through the other."""


class Acting(NamedTuple):
    """That somebody can act as ``who``: by one grant after the other.

    Of the first ones each gives any command, so that the next can be had by it.
    """

    grants: tuple[Grant, ...]
    who: Principal

    @property
    def wholly(self) -> bool:
        """Whether all is theirs that the account has: any command, and that for sure."""
        return all(one.any_command and one.surely for one in self.grants)


def acting(user: User, matcher: Matcher) -> list[Acting]:
    """The accounts that ``user`` can act as, the shortest way to each: those with any command first.

    What one acts as may go on to another account only where no password is asked for: one's own is no use then.
    """
    found: list[Acting] = []
    seen: set[tuple[str, int | None]] = {(user.name, None)}
    seen |= {(user.name, gid) for gid in matcher.person(user).gids}
    edge: list[tuple[User, tuple[Grant, ...]]] = [(user, ())]
    for _ in range(_DEEPEST):
        ahead: list[tuple[User, tuple[Grant, ...]]] = []
        for one, before in edge:
            for target, group in matcher.targets(one):
                if (target.name, group) in seen:
                    continue
                grant = matcher.grant(one, target, group)
                if grant is None or (before and grant.password is not False):
                    continue
                grants = (*before, grant)
                found.append(Acting(grants, _principal(grant, matcher)))
                if grant.any_command and grant.surely:
                    seen.add((target.name, group))
                    ahead.append((target, grants))
        edge = ahead
    return sorted(found, key=lambda each: (not each.wholly, len(each.grants), each.who.uid != 0))


def _principal(grant: Grant, matcher: Matcher) -> Principal:
    who = of_account(grant.account, matcher.accounts)
    return who if grant.group is None else who._replace(gids=who.gids | {grant.group})


class ActingAnswer:
    """For one path what people can do by acting as others, beside what they can do as themselves."""

    def __init__(self, host: Host, answer: Answer, matcher: Matcher, among: Iterable[int]) -> None:
        """``among`` are the places, in the universe of ``answer``, of those who are asked about."""
        self.answer = answer
        self.matcher = matcher
        self.acting: dict[int, list[Acting]] = {}
        wanted = {place: answer.universe.principals[place] for place in among}
        by_name = {who.name: place for place, who in wanted.items() if who.kind == "user" and who.name is not None}
        for user in matcher.anybody():
            place = by_name.get(user.name)
            if place is not None and user.uid == wanted[place].uid:
                self.acting[place] = acting(user, matcher)
        targets = list(dict.fromkeys(one.who for ways in self.acting.values() for one in ways))
        self._place = {who: number for number, who in enumerate(targets)}
        self._allowed = _allowed(host, Universe(targets), answer.route, answer.rights)

    def gives(self, one: Acting, right: Right) -> bool:
        """Whether the account that is acted as has ``right``."""
        return bool(self._allowed[right] >> self._place[one.who] & 1)

    def more(self, place: int, one: Acting) -> list[Right]:
        """The rights that somebody has by acting so, and not as themselves."""
        return [right for right in self.answer.rights if self.gives(one, right) and not self.answer.has(place, right)]

    def elevated(self, place: int, right: Right) -> bool | None:
        """Whether somebody has ``right``, as themselves or by acting as another; None where it hangs on what certain
        commands do, or on what is not known."""
        if self.answer.has(place, right):
            return True
        ways = [one for one in self.acting.get(place, ()) if self.gives(one, right)]
        if any(one.wholly for one in ways):
            return True
        return None if ways or self.answer.has(place, right) is None else False


def _allowed(host: Host, universe: Universe, route: Route, rights: Sequence[Right]) -> Mapping[Right, int]:
    access = Access(universe, host.settings)
    return {right: access.allowed(route, right) for right in rights}
