"""Applying a plan: each object compared with what the plan saw, changed through its handle, and read back."""

import errno
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from fiat.core.change.history import Entry
from fiat.core.change.planned import Item
from fiat.core.change.rewriting import Left, failed, look, rewrite, same_posture
from fiat.core.errors import PathError
from fiat.core.model.host import Host, Node
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Principal
from fiat.core.tree.handles import Handles

Stopping = Callable[[], bool]
"""Asked before each object: whether to leave it and all that follow as they are."""


class Outcome(NamedTuple):
    """What became of one object: changed where ``error`` is None and ``already`` is false.

    ``place`` is its place among those that were to be changed. ``astray`` and
    ``found`` are those of :class:`Left`.
    """

    place: int
    path: str
    error: PathError | None = None
    already: bool = False
    astray: bool = False
    found: Posture | None = None

    def left(self, left: Left) -> "Outcome":
        """The same object, left so."""
        return Outcome(self.place, self.path, left.error, False, left.astray, left.found)


def apply(host: Host, items: Iterable[Item], stopping: Stopping) -> Iterator[Outcome]:
    """Change the items, one after the other; the outcome of each that was tried."""
    handles = Handles(host)
    actor = host.actor()
    try:
        for place, item in enumerate(items):
            if stopping():
                return
            left = _change(handles, item, actor)
            yield Outcome(place, item.path, left.error, False, left.astray, left.found)
    finally:
        handles.close()


def _change(handles: Handles, item: Item, actor: Principal) -> Left:
    """Change one object."""
    path, change = item.path, item.change
    try:
        node = handles.open(path)
    except (OSError, MemoryError) as error:
        return Left(failed(path, error))
    try:
        problem = _other_than_planned(handles, item, node)
    except (OSError, MemoryError) as error:
        node.close()
        return Left(failed(path, error))
    try:
        return Left(problem) if problem is not None else rewrite(node, change, actor)
    finally:
        node.close()


def _other_than_planned(handles: Handles, item: Item, node: Node) -> PathError | None:
    """Why what ``node`` holds is not what the plan saw; None if it is."""
    path = item.path
    found = look(node)
    if not found.status.identity.same_as(item.identity):
        return PathError(path, errno.EBUSY, "change", "another object is there now, and is left alone")
    if not same_posture(found.posture, item.change.before):
        return PathError(path, errno.EBUSY, "change", "it was changed meanwhile, and is left alone")
    if found.status.links != item.links and not found.posture.directory:
        return PathError(path, errno.EBUSY, "change", "its names were changed meanwhile, and it is left alone")
    if item.names is not None and not _all_names_there(handles, item.names, found, node):
        return PathError(path, errno.EBUSY, "change", "one of its names is elsewhere now, and it is left alone")
    return None


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


def settle(host: Host, entries: Iterable[Entry]) -> Iterator[Outcome]:
    """What has become of objects that a process was changing when it was killed: each is looked at.

    Those that are as before count as not tried.
    """
    handles = Handles(host)
    try:
        for entry in entries:
            outcome = Outcome(entry.place, entry.path)
            try:
                node = handles.open(entry.path)
                try:
                    found = look(node)
                finally:
                    node.close()
            except (OSError, MemoryError) as error:
                yield outcome.left(Left(failed(entry.path, error, "find out what was done to"), True))
                continue
            if not found.status.identity.same_as(entry.identity):
                problem = PathError(entry.path, errno.EBUSY, "change", "another object is there now")
                yield outcome.left(Left(problem))
            elif same_posture(found.posture, entry.after):
                yield outcome
            elif not same_posture(found.posture, entry.before):
                problem = PathError(entry.path, errno.EINTR, "change all of", "a part is changed")
                yield outcome.left(Left(problem, True, found.posture))
    finally:
        handles.close()


def entries_of(items: Iterable[Item]) -> Iterator[Entry]:
    """What the history keeps of each item."""
    for place, item in enumerate(items):
        change = item.change
        yield Entry(place, item.path, item.identity, change.before, change.after, change.between)
