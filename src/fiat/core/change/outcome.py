"""What becomes of objects that are changed one after the other."""

from collections.abc import Callable, Iterator
from typing import NamedTuple

from fiat.core.change.rewriting import AS_PLANNED, Left
from fiat.core.errors import PathError
from fiat.core.model.posture import Posture

Stopping = Callable[[], bool]
"""Asked before each object: whether to leave it and all that follow as they are."""

_TOGETHER = 200
"""Objects that are told of at once where all goes well."""


class Outcome(NamedTuple):
    """What became of one object: changed where ``error`` is None and ``already`` is false.

    ``place`` is its place among those that were to be changed. ``astray`` and
    ``found`` are those of :class:`Left`.
    """

    place: int
    error: PathError | None = None
    already: bool = False
    astray: bool = False
    found: Posture | None = None


class Tried(NamedTuple):
    """The objects from the place ``first`` up to ``end``, which is not one of them, were tried.

    All were changed as they were to be, but those that are ``told``.
    """

    first: int
    end: int
    told: tuple[Outcome, ...] = ()


def one_by_one(
    places: range, change: Callable[[int], Outcome | None], stopping: Stopping = lambda: False
) -> Iterator[Tried]:
    """Change the object at each of the ``places`` in turn; what is not simply changed is told at once."""
    first = places.start
    for place in places:
        if stopping():
            break
        outcome = change(place)
        after = place + 1
        if outcome is not None:
            yield Tried(first, after, (outcome,))
            first = after
        elif after - first == _TOGETHER:
            yield Tried(first, after)
            first = after
    else:
        place = places.stop
    if first < place:
        yield Tried(first, place)


def outcome_of(place: int, left: Left) -> Outcome | None:
    """What is to be told of an object that was left so; None where it was changed as it was to be."""
    return (
        None if left is AS_PLANNED or left.error is None else Outcome(place, left.error, False, left.astray, left.found)
    )
