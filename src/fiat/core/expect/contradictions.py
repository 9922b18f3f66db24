"""Expectations that cannot hold at once: found before anything is planned."""

from collections.abc import Callable, Iterator, Sequence
from functools import reduce
from itertools import islice
from operator import or_
from typing import NamedTuple

from fiat.core.audit.ground import Ground
from fiat.core.expect.expectation import Demand, Expectation, Stated
from fiat.core.expect.holding import Holding, people_of
from fiat.core.model.accounts import Accounts
from fiat.core.model.identity import Identity
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.principals import places as bits_in
from fiat.core.text import joined, quoted, visible
from fiat.core.words import naming


class Contradiction(NamedTuple):
    """Two expectations, a path that both are about, and what they say of it."""

    one: Expectation
    other: Expectation
    path: str
    text: str


_TOLD = 20
"""So many contradictions at most are told for one set of expectations that are about the same."""


def contradictions(found: Sequence[Holding]) -> list[Contradiction]:
    """Pairs of expectations that contradict each other on a path that both are about; one path for each.

    What several are about is looked at once for all paths of which the same several speak.
    """
    told: dict[tuple[str, str, str], Contradiction] = {}
    for several, ground, place in _about_the_same(_that_may_contradict(found)):
        for one, other, text in (*_of_rights(several, ground), *_of_postures(several)):
            key = one.expectation.name, other.expectation.name, text
            if key not in told:
                told[key] = Contradiction(one.expectation, other.expectation, ground.path(place), text)
    return list(told.values())


def _that_may_contradict(found: Sequence[Holding]) -> list[Holding]:
    """Those of which another could say the opposite, wherever that is: most say nothing that is ever denied."""
    demands = [demand for one in found for demand in one.expectation.demands]
    denied = {demand.right for demand in demands if demand.never or demand.only is not None}
    rights = denied & {demand.right for demand in demands if demand.always}
    return [
        one
        for one in found
        if one.expectation.stated != Stated() or any(demand.right in rights for demand in one.expectation.demands)
    ]


def _about_the_same(found: Sequence[Holding]) -> Iterator[tuple[list[Holding], Ground, int]]:
    """The sets of those that are about one object, each once, with where the first such object is."""
    about: dict[Identity, list[int]] = {}
    places: dict[Identity, tuple[Ground, int]] = {}
    for number, one in enumerate(found):
        for ground, some in one.asked:
            for place, identity in zip(some.tolist(), ground.survey.identities(some), strict=True):
                numbers = about.setdefault(identity, [])
                if not numbers or numbers[-1] != number:
                    numbers.append(number)
                    places.setdefault(identity, (ground, place))
    first: dict[tuple[int, ...], Identity] = {}
    for identity, numbers in about.items():
        first.setdefault(tuple(numbers), identity)
    for several, identity in first.items():
        yield [found[number] for number in several], *places[identity]


def _of_rights(several: Sequence[Holding], ground: Ground) -> Iterator[tuple[Holding, Holding, str]]:
    """Those who always have a right by one, and must not by another."""
    universe, accounts = ground.universe, ground.accounts
    for right in dict.fromkeys(demand.right for one in several for demand in one.expectation.demands):
        demands = [(one, demand) for one in several for demand in one.expectation.demands if demand.right is right]
        needed = [(one, people_of(demand.always, universe, accounts)) for one, demand in demands]
        barred = [(one, _barred(demand, universe, accounts)) for one, demand in demands]
        both = reduce(or_, (bits for _, bits in needed), 0) & reduce(or_, (bits for _, bits in barred), 0)
        pairs: dict[tuple[int, int], list[Principal]] = {}
        for number, member in islice(zip(bits_in(both), universe.members(both), strict=True), _TOLD):
            bit = 1 << number
            mine = next(place for place, (_, bits) in enumerate(needed) if bits & bit)
            theirs = next(place for place, (_, bits) in enumerate(barred) if bits & bit)
            pairs.setdefault((mine, theirs), []).append(member)
        for (mine, theirs), members in pairs.items():
            who = joined(visible(naming.word_for(one)) for one in members[:3])
            yield needed[mine][0], barred[theirs][0], f"{who} shall {right.name} there, and shall not"


def _of_postures(several: Sequence[Holding]) -> Iterator[tuple[Holding, Holding, str]]:
    """Those that state something else than the first that states anything of it."""
    for what, value_of in _STATED.items():
        first: tuple[Holding, object] | None = None
        for one in several:
            value = value_of(one.expectation.stated)
            if value is None:
                continue
            if first is None:
                first = one, value
            elif value != first[1]:
                bare = () in (value, first[1])
                none = f"one states a {what}, and the other that there is none"
                yield first[0], one, none if bare else f"they state another {what} each"
                break


_STATED: dict[str, Callable[[Stated], object]] = {
    "owner": lambda stated: stated.uid,
    "group": lambda stated: stated.gid,
    "mode": lambda stated: stated.mode,
    "list": lambda stated: () if stated.no_acl else stated.acl,
    "default list": lambda stated: () if stated.no_default else stated.default,
}


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
