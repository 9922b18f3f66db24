"""Applying a plan: each object compared with what the plan saw, changed through its handle, and read back."""

import errno
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from fiat.core.change.history import Entry
from fiat.core.change.planned import Item
from fiat.core.change.steps import Steps
from fiat.core.errors import PathError
from fiat.core.model.host import Host, Node
from fiat.core.model.posture import Object, Posture
from fiat.core.tree.handles import Handles

Stopping = Callable[[], bool]
"""Asked before each object: whether to leave it and all that follow as they are."""


class Outcome(NamedTuple):
    """What became of one object: changed where ``error`` is None and ``already`` is false.

    ``place`` is its place among those that were to be changed.
    """

    place: int
    path: str
    error: PathError | None = None
    already: bool = False


def apply(host: Host, items: Iterable[Item], stopping: Stopping) -> Iterator[Outcome]:
    """Change the items, one after the other; the outcome of each that was tried."""
    handles = Handles(host)
    try:
        for place, item in enumerate(items):
            if stopping():
                return
            yield Outcome(place, item.path, _change(handles, item))
    finally:
        handles.close()


def _change(handles: Handles, item: Item) -> PathError | None:
    """Change one object; what went wrong."""
    path, change = item.path, item.change
    try:
        node = handles.open(path)
    except OSError as error:
        return failed(path, error)
    try:
        found = look(node)
        if not found.status.identity.same_as(item.identity):
            return PathError(path, errno.EBUSY, "change", "another object is there now, and is left alone")
        if not same_posture(found.posture, change.before):
            return PathError(path, errno.EBUSY, "change", "it was changed meanwhile, and is left alone")
        if found.status.links != item.links and not found.posture.directory:
            return PathError(path, errno.EBUSY, "change", "its names were changed meanwhile, and it is left alone")
        if item.names is not None and not _all_names_there(handles, item.names, found, node):
            return PathError(path, errno.EBUSY, "change", "one of its names is elsewhere now, and it is left alone")
        take(node, change.steps)
        if not same_posture(look(node).posture, change.after):
            return PathError(path, errno.EIO, "confirm the change of", "the kernel made something else of it")
    except OSError as error:
        return failed(path, error)
    finally:
        node.close()
    return None


def look(node: Node) -> Object:
    """The object as it is now; OSError where a part of its posture cannot be read."""
    found = node.look(program=False, exact=True)
    for what, number in found.unknown:
        if what != "flags":  # the kernel itself refuses where one of them is set
            raise OSError(number, what)
    return found


def same_posture(one: Posture, other: Posture) -> bool:
    """Whether both are the same; flags count where both are known."""
    if one.flags is None or other.flags is None:
        one, other = one._replace(flags=None), other._replace(flags=None)
    return one == other


def take(node: Node, steps: Steps) -> None:
    """Ask the kernel for each step. Raises OSError."""
    if steps.uid is not None or steps.gid is not None:
        node.change_owner(steps.uid, steps.gid)
    if steps.acl is not None:
        node.change_list(steps.acl)
    if steps.mode is not None:
        node.change_mode(steps.mode)
    if steps.default is not None or steps.no_default:
        node.change_default(steps.default)
    if steps.capabilities is not None or steps.no_capabilities:
        node.change_capabilities(steps.capabilities)


def _all_names_there(handles: Handles, names: Iterable[str], found: Object, node: Node) -> bool:
    """Whether all the names of an inode, that by which it was opened too, were in the tree at one moment.

    They are looked at one after the other, and a name could be moved to where
    it is looked for next. But making, moving and taking away a name changes
    the inode's time of change: it must be the same afterwards as before, and
    old enough for a clock that ticks slowly to tell the difference.
    """
    handles.host.wait_for_clock(found.status.changed or 0)
    for name in names:
        other = handles.open(name)
        try:
            if not other.look(program=False, exact=True).status.identity.same_as(found.status.identity):
                return False
        finally:
            other.close()
    again = node.look(program=False, exact=True)
    return again.status == found.status and again.posture == found.posture


def failed(path: str, error: OSError, doing: str = "change") -> PathError:
    """What the kernel's refusal means for ``path``."""
    return PathError(path, error.errno or errno.EIO, doing)


def entries_of(items: Iterable[Item]) -> Iterator[Entry]:
    """What the history keeps of each item."""
    for place, item in enumerate(items):
        change = item.change
        yield Entry(place, item.path, item.identity, change.before, change.after, change.between)
