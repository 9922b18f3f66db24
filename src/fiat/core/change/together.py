"""Changing many objects by a host that can do what most of them take in one go.

What is not exactly as it was expected, or fails, comes back held by the handle that it was opened by, and is looked at
with care: in turn before the next one is tried, so that the order of what is done is that of :func:`one_by_one`.
"""

from collections.abc import Callable, Iterator, Sequence
from enum import IntEnum
from itertools import takewhile
from typing import NamedTuple, Protocol, runtime_checkable

from fiat.core.change.rewriting import (
    LeftObject,
    Outcome,
    Stopping,
    TriedObjects,
    confirmed,
    failed,
    half_way,
    one_by_one,
)
from fiat.core.change.steps import Change
from fiat.core.model.host import Host, Node
from fiat.core.model.posture import Identity, Placement
from fiat.core.model.principals import Principal

BLOCK = 100
"""Objects that are tried in turn before it is asked again whether to go on."""

AT_ONCE = 800
"""The same of those that are tried several at a time."""


class Attempt(NamedTuple):
    """The object at ``path`` is to be compared with what it was, and then changed, if it is not ``compared_only``.

    ``links`` is how many names it has, 0 where that does not count.
    """

    path: str
    identity: Identity
    change: Change
    links: int = 0
    compared_only: bool = False


class Came(IntEnum):
    """How far an attempt came."""

    NOT_TRIED = -1
    """It takes what is not done in one go."""

    NOT_OPENED = 1
    OTHERWISE = 2
    """It is not what it was, or that takes more to tell: nothing was changed."""

    STEP_FAILED = 3
    OTHER_AFTERWARDS = 4
    """It was changed, and found otherwise then, or that takes more to tell."""


class Tried(NamedTuple):
    """An attempt that did not come to its end: for which ``errno``, and the object, where it was opened."""

    came: Came
    errno: int = 0
    node: Node | None = None


class Together(Protocol):
    """Makes attempts in one go."""

    def in_turn(self, attempts: Sequence[Attempt]) -> list[Placement | Tried]:
        """Make attempts, one after the other, up to the first that does not come to its end, which is told of as well.

        Of those that do it is where the object is. The caller closes the nodes of the others.
        """

    def at_once(self, attempts: Sequence[Attempt]) -> list[Placement | Tried]:
        """Make attempts, several at a time and in no order, whatever comes of each."""


@runtime_checkable
class ChangesTogether(Protocol):
    """A host that can make attempts in one go."""

    def together(self) -> Together | None:
        """What makes them; None where it cannot be had here."""


def together_on(host: Host) -> Together | None:
    """What makes attempts on ``host`` in one go, where there is such a thing."""
    return host.together() if isinstance(host, ChangesTogether) else None


def left_after(node: Node, change: Change, actor: Principal, tried: Tried) -> LeftObject:
    """How an object is left of which a step failed, or that was found otherwise afterwards."""
    if tried.came is Came.STEP_FAILED:
        return half_way(node, change, actor, failed(node.path, OSError(tried.errno, "")))
    return confirmed(node, change)


def try_all(
    host: Host,
    places: range,
    attempt: Callable[[int], Attempt | None],
    change: Callable[[int], Outcome | None],
    settle: Callable[[int, Tried], Outcome | None],
    stopping: Stopping = lambda: False,
    *,
    at_once: bool = False,
) -> Iterator[TriedObjects]:
    """Change the object at each of the ``places``: in turn, or, where their order is no matter, several ``at_once``.

    ``attempt`` is what that takes where all goes as expected, None where more is to be looked at; ``change`` does it
    object by object, and ``settle`` goes on where an attempt has ended.
    """
    together = together_on(host)
    if together is None:
        yield from one_by_one(places, change, stopping)
        return
    place, size = places.start, block_after(0, 0, at_once=at_once)
    while place < places.stop and not stopping():
        begun = first = place
        attempts = list(map(attempt, range(place, min(place + size, places.stop))))
        for made, found in zip(attempts, tried(together, attempts, at_once=at_once), strict=False):
            outcome = None
            if not isinstance(found, Tried):
                outcome = Outcome(place, already=True) if made is not None and made.compared_only else None
            elif found.came is Came.NOT_TRIED:
                if place > first and not at_once and stopping():
                    break
                outcome = change(place)
            else:
                outcome = settle(place, found)
            place += 1
            if outcome is not None:
                yield TriedObjects(first, place, (outcome,))
                first = place
        if place > first:
            yield TriedObjects(first, place)
        size = block_after(size, place - begun, at_once=at_once)


def block_after(size: int, came: int, *, at_once: bool) -> int:
    """How many objects to try after a block of ``size`` of which the first ``came`` were tried.

    Few where one of them was not as expected: the others may not be either, and what was got ready for them was in vain.
    """
    if at_once:
        return AT_ONCE
    return min(BLOCK, 4 * size) if size and came == size else 4


def tried(together: Together, attempts: Sequence[Attempt | None], *, at_once: bool) -> Iterator[Placement | Tried]:
    """What came of the first of these attempts, or of all of them."""
    if at_once:
        found = iter(together.at_once([one for one in attempts if one is not None]))
        yield from (Tried(Came.NOT_TRIED) if one is None else next(found) for one in attempts)
        return
    some = list(takewhile(lambda one: one is not None, attempts))
    done = together.in_turn([one for one in some if one is not None]) if some else []
    yield from done
    if len(done) == len(some) < len(attempts) and not (done and isinstance(done[-1], Tried)):
        yield Tried(Came.NOT_TRIED)
