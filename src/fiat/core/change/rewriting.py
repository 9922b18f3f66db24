"""Changing one object through its handle, so that it is left as planned, as it was, or known to be neither; and what
came of it."""

import errno
from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import NamedTuple

from fiat.core.change import steps
from fiat.core.change.steps import Change, Steps
from fiat.core.errors import OtherNow, PathError
from fiat.core.model.host import Node
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal


class LeftObject(NamedTuple):
    """How an object was left: as planned where ``error`` is None, and else as it was before, unless ``astray``.

    What went astray is neither, or could not be looked at: ``found`` is what it was
    read back as, None where it could not be.
    """

    error: PathError | None = None
    astray: bool = False
    found: Posture | None = None


AS_PLANNED = LeftObject()


def rewrite(node: Node, change: Change, actor: Principal) -> LeftObject:
    """Take the steps of ``change``, look at what came of them, and take back what was done half.

    The object had the posture ``change.before`` a moment ago. Between that look and
    the first step somebody else may change it: the kernel has no call that compares
    and changes, so what is read back afterwards is what counts.
    """
    try:
        take(node, change.steps)
    except (OSError, MemoryError) as error:
        return half_way(node, change, actor, failed(node.path, error))
    return confirmed(node, change)


def confirmed(node: Node, change: Change) -> LeftObject:
    """Read back what was changed."""
    try:
        if node.matches(change.after) is not None:
            return AS_PLANNED
    except (OSError, MemoryError):
        pass  # it is looked at once more
    found = _seen(node)
    if found is None:
        return LeftObject(PathError(node.path, errno.EIO, "look again at", "what was made of it is not known"), True)
    if same_posture(found, change.after):
        return AS_PLANNED
    return LeftObject(OtherNow(node.path, "confirm the change of", "it was found otherwise afterwards"), True, found)


def half_way(node: Node, change: Change, actor: Principal, error: PathError) -> LeftObject:
    """A step was refused: put back those before it, unless what is there now is not their work."""
    found = _seen(node)
    if found is not None and any(same_posture(found, one) for one in (*change.between, change.after)):
        with suppress(OSError, MemoryError):
            take(node, steps.steps_towards(found, change.before, actor, through=True))
        found = _seen(node)
    if found is not None and same_posture(found, change.before):
        return LeftObject(error)
    how = "what it is now could not be found out" if found is None else "a part is changed"
    return LeftObject(PathError(error.path, error.errno, "change all of", how), True, found)


def _seen(node: Node) -> Posture | None:
    """The posture as it is now; None where that cannot be told."""
    try:
        return node.glance().posture
    except (OSError, MemoryError):
        return None


def take(node: Node, steps: Steps) -> None:
    """Ask the kernel for each step. Raises OSError."""
    uid, gid, acl, mode, default, no_default, capabilities, no_capabilities, flags_first, flags = steps
    if flags_first is not None:
        node.change_flags(flags_first)
    if uid is not None or gid is not None:
        node.change_owner(uid, gid)
    if acl is not None:
        node.change_list(acl)
    if mode is not None:
        node.change_mode(mode)
    if default is not None or no_default:
        node.change_default(default)
    if capabilities is not None or no_capabilities:
        node.change_capabilities(capabilities)
    if flags is not None:
        node.change_flags(flags)


def same_posture(one: Posture, other: Posture) -> bool:
    """Whether both are the same; flags count where both are known."""
    if one.flags is None or other.flags is None:
        one, other = one._replace(flags=None), other._replace(flags=None)
    return one == other


def failed(path: str, error: OSError | MemoryError, doing: str = "change") -> PathError:
    """What the kernel's refusal means for ``path``."""
    number = error.errno if isinstance(error, OSError) else errno.ENOMEM
    return PathError(path, number or errno.EIO, doing)


Stopping = Callable[[], bool]
"""Asked before each object: whether to leave it and all that follow as they are."""

_TOGETHER = 200
"""Objects that are told of at once where all goes well."""


class Outcome(NamedTuple):
    """What became of one object: changed where ``error`` is None and ``already`` is false.

    ``place`` is its place among those that were to be changed. ``astray`` and
    ``found`` are those of :class:`LeftObject`.
    """

    place: int
    error: PathError | None = None
    already: bool = False
    astray: bool = False
    found: Posture | None = None


class TriedObjects(NamedTuple):
    """The objects from the place ``first`` up to ``end``, which is not one of them, were tried.

    All were changed as they were to be, but those that are ``told``.
    """

    first: int
    end: int
    told: tuple[Outcome, ...] = ()


def one_by_one(
    places: range, change: Callable[[int], Outcome | None], stopping: Stopping = lambda: False
) -> Iterator[TriedObjects]:
    """Change the object at each of the ``places`` in turn; what is not simply changed is told at once."""
    first = places.start
    for place in places:
        if stopping():
            break
        outcome = change(place)
        after = place + 1
        if outcome is not None:
            yield TriedObjects(first, after, (outcome,))
            first = after
        elif after - first == _TOGETHER:
            yield TriedObjects(first, after)
            first = after
    else:
        place = places.stop
    if first < place:
        yield TriedObjects(first, place)


def outcome_of(place: int, left: LeftObject) -> Outcome | None:
    """What is to be told of an object that was left so; None where it was changed as it was to be."""
    return (
        None if left is AS_PLANNED or left.error is None else Outcome(place, left.error, False, left.astray, left.found)
    )
