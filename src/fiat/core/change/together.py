"""Changing many objects by a host that can do what most of them take in one go.

What is not exactly as it was expected, or fails, comes back held by the handle that it was opened by, and is looked at
with care: in turn before the next one is tried, so that the order of what is done is that of :func:`one_by_one`.
"""

from collections.abc import Callable, Iterator, Sequence
from enum import IntEnum
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

_BLOCK = 100
"""Objects that are tried in turn before it is asked again whether to go on."""

_AT_ONCE = 800
"""The same of those that are tried several at a time."""

Attempt = tuple[str, Identity, Change, int, bool]
"""The object at a path is to be compared with what it was, and then changed: which it is, its change, how many names it
has, 0 where that does not count, and whether it is to be compared alone."""


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


_NOT_TRIED = Tried(Came.NOT_TRIED)


class Attempted(NamedTuple):
    """Where the objects of attempts are, None of those that did not come to their end, which are in ``ended``."""

    sites: list[Placement | None]
    ended: dict[int, Tried]


class Together(Protocol):
    """Makes attempts in one go; of what is None it says that it was not tried."""

    def in_turn(self, attempts: Sequence[Attempt | None]) -> Attempted:
        """Make attempts, one after the other, up to the first that does not come to its end, which is told of as well.

        The caller closes its node.
        """

    def at_once(self, attempts: Sequence[Attempt | None]) -> Attempted:
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


class Trying:
    """Makes attempts block by block."""

    def __init__(
        self, together: Together | None, attempts: Callable[[range], Sequence[Attempt | None]], *, at_once: bool
    ) -> None:
        self._together = together
        self._attempts = attempts
        self._at_once = at_once
        self._size = _AT_ONCE if at_once else 4
        self.attempts: Sequence[Attempt | None] = []
        """Those that were made last."""

    def next(self, places: range) -> Attempted:
        """What came of the first of these, of one at least."""
        if self._together is None:
            return Attempted([None], {0: _NOT_TRIED})
        made = self.attempts = self._attempts(places[: self._size])
        found = self._together.at_once(made) if self._at_once else self._together.in_turn(made)
        if not self._at_once:  # where one is not as expected, others may not be: then few are made ready in vain
            self._size = 4 if found.ended else min(_BLOCK, 4 * self._size)
        return found


def try_all(
    host: Host,
    places: range,
    attempts: Callable[[range], Sequence[Attempt | None]],
    change: Callable[[int], Outcome | None],
    go_on: Callable[[int, Tried], Outcome | None],
    stopping: Stopping = lambda: False,
    *,
    at_once: bool = False,
) -> Iterator[TriedObjects]:
    """Change the object at each of the ``places``: in turn, or, where their order is no matter, several ``at_once``.

    ``attempts`` are what that takes at some places where all goes as expected, None where more is to be looked at;
    ``change`` does it object by object, and ``go_on`` goes on where an attempt has ended.
    """
    together = together_on(host)
    if together is None:
        yield from one_by_one(places, change, stopping)
        return
    trying, place = Trying(together, attempts, at_once=at_once), places.start
    while place < places.stop and not stopping():
        found = trying.next(range(place, places.stop))
        end = place + len(found.sites)
        told = [
            Outcome(place + one, already=True)
            for one, made in enumerate(trying.attempts[: len(found.sites)])
            if made is not None and made[4] and one not in found.ended
        ]
        for one, tried in found.ended.items():
            after = change(place + one) if tried.came is Came.NOT_TRIED else go_on(place + one, tried)
            told += [] if after is None else [after]
        yield TriedObjects(place, end, tuple(sorted(told, key=lambda outcome: outcome.place)))
        place = end
