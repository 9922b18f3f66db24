"""Means combined: one for each of several objects, in the order in which they are worth a plan."""

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import islice

from fiat.core.suggest.means import Means

_MOST_COMBINED = 24
"""So many combinations of means on one or two objects are looked at, the least costly of each kind first."""

_FEW, _MOST_ON_MANY = 2, 8
"""With more than so few objects, so many of them."""

_OF_A_KIND = 2
"""So many of these at least may be by the same means on the same objects."""

_KEPT = 64
"""So many combinations for the first objects of a route are gone on with."""


def combine(choices: Sequence[Sequence[Means]]) -> Iterator[tuple[Means, ...]]:
    """One means for each object: the least costly to others on all of them first, the same on all where that is equal.

    First the best; then each kind of means wherever it can be, and the best elsewhere; then the others, as many as are
    worth a plan. On a long route only the best combinations for its first part are gone on with. With no objects
    there is one combination, of nothing.
    """
    yield from islice(_ordered(choices), _MOST_COMBINED if len(choices) <= _FEW else _MOST_ON_MANY)


def _ordered(choices: Sequence[Sequence[Means]]) -> Iterator[tuple[Means, ...]]:
    found: list[tuple[Means, ...]] = [()]
    for means in choices:
        found = _of_each_kind(sorted(((*some, one) for some in found for one in means), key=_local))[:_KEPT]
    kinds = list(dict.fromkeys(one.names for means in choices for one in means))
    through = [
        tuple(
            next((one for one in means if one.names == names), best)
            for means, best in zip(choices, found[0], strict=True)
        )
        for names in kinds
    ]
    through = list(dict.fromkeys((found[0], *sorted(through, key=_local))))
    yield from through
    yield from (some for some in found if some not in through)


def _local(some: tuple[Means, ...]) -> tuple[list[int], int]:
    """What means on several objects do to others there, and of how many sorts they are."""
    return (
        [sum(column) for column in zip(*(one.local for one in some), strict=True)],
        len({name for one in some for name in one.names}),
    )


def _of_each_kind(combinations: list[tuple[Means, ...]]) -> list[tuple[Means, ...]]:
    """The first of each kind; more of each where there are few kinds."""
    kinds = Counter(tuple(one.names for one in some) for some in combinations)
    most = max(_OF_A_KIND, _MOST_COMBINED // max(len(kinds), 1))
    taken: Counter[tuple[tuple[str, ...], ...]] = Counter()
    found = []
    for some in combinations:
        kind = tuple(one.names for one in some)
        taken[kind] += 1
        if taken[kind] <= most:
            found.append(some)
    return found
