"""Gains and losses: who has which right after, and had not before, or the other way round."""

from typing import NamedTuple

from fiat.core.ask.who import Answer
from fiat.core.model.principals import Principal, places


class Shift(NamedTuple):
    """One principal's gain, or loss, of one right, on so many paths."""

    principal: Principal
    right: str
    paths: int = 1


def between(before: Answer, after: Answer) -> tuple[list[Shift], list[Shift]]:
    """The gains and the losses from one answer about a path to another about the same path."""
    return _more(after, before), _more(before, after)


def _more(one: Answer, other: Answer) -> list[Shift]:
    """What is granted in ``one`` and not in ``other``, for principals that both know."""
    known = {_identity(who): place for place, who in enumerate(other.universe.principals)}
    found = []
    for right, allowed in one.allowed.items():
        for place in places(allowed):
            who = one.universe.principals[place]
            elsewhere = known.get(_identity(who))
            if elsewhere is not None and not other.has(elsewhere, right):
                found.append(Shift(who, right))
    return found


def _identity(who: Principal) -> tuple[object, ...]:
    """What stays the same of a principal when memberships change."""
    return (who.kind, who.gids) if who.kind == "group" else (who.kind, who.uid, who.name, who.pid)
