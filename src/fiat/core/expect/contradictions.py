"""Expectations that cannot hold at once: found before anything is planned."""

from collections.abc import Iterator, Sequence

from fiat.core.expect.expectation import Demand, Expectation
from fiat.core.expect.holding import Holding, people_of
from fiat.core.model.accounts import Accounts
from fiat.core.model.principals import Universe
from fiat.core.text import joined, quoted, visible
from fiat.core.typed import NamedTuple
from fiat.core.words import naming


class Contradiction(NamedTuple):
    """Two expectations, a path that both are about, and what they say of it."""

    one: Expectation
    other: Expectation
    path: str
    text: str


def contradictions(found: Sequence[Holding]) -> list[Contradiction]:
    """Each pair of expectations that contradict each other on a path that both are about; one path for each."""
    told: list[Contradiction] = []
    for place, one in enumerate(found):
        for other in found[place:]:
            path = _common_path(one, other)
            if path is not None:
                told += [Contradiction(one.expectation, other.expectation, path, text) for text in _between(one, other)]
    return told


def _common_path(one: Holding, other: Holding) -> str | None:
    """The first path that both are about."""
    for ground, places in one.asked:
        identities = {ground.survey.identity(place): place for place in places.tolist()}
        for theirs, others in other.asked:
            for place in others.tolist():
                mine = identities.get(theirs.survey.identity(place))
                if mine is not None:
                    return theirs.path(place)
    return None


def _between(one: Holding, other: Holding) -> Iterator[str]:
    for first, second in ((one.expectation, other.expectation), (other.expectation, one.expectation)):
        for demand in first.demands:
            for against in second.demands:
                if demand.right is against.right:
                    yield from _of_rights(one, demand, against)
        if one is other:
            break
    if one is other:
        return
    mine, theirs = one.expectation.stated, other.expectation.stated
    for what, field in _STATED:
        had, has = getattr(mine, field), getattr(theirs, field)
        if had is not None and has is not None and had != has:
            yield f"they state another {what} each"
    for what, none, field in (("list", "no_acl", "acl"), ("default list", "no_default", "default")):
        for bare, listed in ((mine, theirs), (theirs, mine)):
            if getattr(bare, none) and getattr(listed, field) is not None:
                yield f"one states a {what}, and the other that there is none"


_STATED = (("owner", "uid"), ("group", "gid"), ("mode", "mode"), ("list", "acl"), ("default list", "default"))


def _of_rights(found: Holding, demand: Demand, against: Demand) -> Iterator[str]:
    """Those who always have a right by the one, and must not by the other."""
    if not demand.always or not found.asked:
        return
    ground = found.asked[0][0]
    universe, accounts = ground.universe, ground.accounts
    needed = people_of(demand.always, universe, accounts)
    both = needed & _barred(against, universe, accounts)
    if both:
        who = joined(visible(naming.word_for(one)) for one in list(universe.members(both))[:3])
        yield f"{who} shall {demand.right.name} there, and shall not"


def _barred(demand: Demand, universe: Universe, accounts: Accounts) -> int:
    people = universe.of_kind("user") | universe.of_kind("anyone-else")
    barred = people_of(demand.never, universe, accounts)
    return barred if demand.only is None else barred | people & ~people_of(demand.only, universe, accounts)


def words(one: Contradiction) -> str:
    """As it is told."""
    names = [quoted(one.one.name), quoted(one.other.name)]
    both = names[0] if one.one is one.other else joined(names)
    verb = "contradicts itself" if one.one is one.other else "contradict each other"
    return f"{both} {verb} at {visible(one.path)}: {one.text}"
