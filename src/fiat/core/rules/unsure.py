"""Those of whom not every group is known: what holds for them whatever these groups are, and what is open.

An answer for them is worked out for the groups that are known, and for these together with others of those that count
on the way. Where all agree it is known: more groups may give a right, and may take one away, for a group that matches
decides before the rest. Who stops anywhere, and could get on, does so by one group at each place: the sets of up to
three groups, and all of them together, show that for every route with three places where a group is needed.
"""

from collections.abc import Callable, Iterator
from itertools import combinations
from typing import NamedTuple

from fiat.core.model.principals import Universe

_TOGETHER = 3
"""So many groups at a time are supposed; beside them all that count."""

_SEVERAL = 12
"""Of more groups that count no more than one at a time is supposed, beside them all."""


class Possible(NamedTuple):
    """Of the principals of a universe those who surely have a right, and those of whom it is not known."""

    surely: int
    open: int


def possible(universe: Universe, gids: frozenset[int], allowed: Callable[[Universe], int]) -> Possible:
    """Who has what ``allowed`` says of a universe, where ``gids`` are all groups that count for it."""
    known = allowed(universe)
    unsure = universe.unsure
    if not unsure:
        return Possible(known, 0)
    every, some = known, known
    for more in supposed(gids):
        found = allowed(universe.in_more_groups(more))
        every &= found
        some |= found
    return Possible(known & ~unsure | every & unsure, unsure & some & ~every)


def supposed(gids: frozenset[int]) -> Iterator[frozenset[int]]:
    """Sets of groups that somebody might be in besides, of those that count."""
    ordered = sorted(gids)
    most = _TOGETHER if len(ordered) <= _SEVERAL else 1
    for count in range(1, min(most, len(ordered)) + 1):
        yield from map(frozenset, combinations(ordered, count))
    if len(ordered) > most:
        yield gids
