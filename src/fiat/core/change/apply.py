"""Carrying out a plan: each object compared with what the plan saw, changed through its handle, and read back."""

import errno
import time
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from fiat.core.change.history import Entry
from fiat.core.change.plan import Item
from fiat.core.errors import PathError
from fiat.core.model.host import Host, Node, Now
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal
from fiat.core.rules import changing as edit
from fiat.core.rules.changing import Change, Steps
from fiat.core.tree.handles import Handles

Stopping = Callable[[], bool]
"""Asked before each object: whether to leave it and all that follow as they are."""


class Outcome(NamedTuple):
    """What became of one object: changed where ``error`` is None and ``already`` is false."""

    place: int
    path: str
    error: PathError | None = None
    already: bool = False


def carry_out(host: Host, items: Iterable[Item], stopping: Stopping) -> Iterator[Outcome]:
    """Change the items, one after the other; the outcome of each that was come to."""
    handles = Handles(host)
    bare: dict[int, tuple[Posture, Posture]] = {}
    try:
        for place, item in enumerate(items):
            if stopping():
                return
            change = item.change
            known = bare.get(id(change))
            if known is None:
                known = bare[id(change)] = _without_flags(change.before), _without_flags(change.after)
            before, after = known
            yield Outcome(place, item.path, _change_one(handles, item, change.steps, before, after))
    finally:
        handles.close()


def _change_one(handles: Handles, item: Item, steps: Steps, before: Posture, after: Posture) -> PathError | None:
    path = item.path
    try:
        node = handles.open(path)
    except OSError as error:
        return _failed(path, error)
    try:
        now = node.now()
        if not _same(now, item.inode, item.birth):
            return PathError(path, errno.EBUSY, "change", "another object is there now, and is left alone")
        if now.posture != before:
            return PathError(path, errno.EBUSY, "change", "it was changed meanwhile, and is left alone")
        if now.links != item.links and not now.posture.directory:
            return PathError(path, errno.EBUSY, "change", "its names were changed meanwhile, and it is left alone")
        if item.names is not None and not _all_names_there(handles, item, item.names, now, node):
            return PathError(path, errno.EBUSY, "change", "one of its names is elsewhere now, and it is left alone")
        take(node, steps)
        if node.now().posture != after:
            return PathError(path, errno.EIO, "confirm the change of", "the kernel made something else of it")
    except OSError as error:
        return _failed(path, error)
    finally:
        node.close()
    return None


def put_back(host: Host, entries: Iterable[Entry], stopping: Stopping) -> Iterator[Outcome]:
    """Put back what a run of the history has changed, each object from whatever state the run left it in."""
    handles = Handles(host)
    actor = host.actor()
    try:
        for entry in entries:
            if stopping():
                return
            outcome = Outcome(entry.place, entry.path)
            try:
                node = handles.open(entry.path)
            except OSError as error:
                yield outcome._replace(error=_failed(entry.path, error))
                continue
            try:
                now = node.now()
                error_found = differs(entry, now)
                if error_found is not None:
                    yield outcome._replace(error=error_found)
                elif now.posture == entry.before:
                    yield outcome._replace(already=True)
                else:
                    yield outcome._replace(error=_put_one_back(node, entry, now.posture, actor))
            except OSError as error:
                yield outcome._replace(error=_failed(entry.path, error))
            finally:
                node.close()
    finally:
        handles.close()


def differs(entry: Entry, now: Now) -> PathError | None:
    """Why what is found at the path of ``entry`` is not what the run left there; None if it is."""
    if not _same(now, entry.inode, entry.birth):
        return PathError(entry.path, errno.EBUSY, "put back", "another object is there now, and is left alone")
    if now.posture not in (entry.before, entry.after, *entry.between):
        return PathError(entry.path, errno.EBUSY, "put back", "it was changed since by someone else, and is left alone")
    return None


def way_back(node: Node, entry: Entry, now: Posture, actor: Principal) -> Change:
    """What putting back will do to an object that has the posture ``now``."""
    found = node.look()
    steps = edit.steps_towards(now, entry.before, actor)
    return edit.change(now, steps, actor, found.mount, found.keeps_lists)


def _put_one_back(node: Node, entry: Entry, now: Posture, actor: Principal) -> PathError | None:
    change = way_back(node, entry, now, actor)
    if change.errno:
        return PathError(entry.path, change.errno, "put back")
    take(node, change.steps)
    after = node.now().posture
    if after != change.after:
        return PathError(entry.path, errno.EIO, "confirm the change of", "the kernel made something else of it")
    if after != entry.before:
        return PathError(entry.path, errno.EPERM, "put back all of", "the kernel leaves out what only root may set")
    return None


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


def _all_names_there(handles: Handles, item: Item, names: Iterable[str], now: Now, node: Node) -> bool:
    """Whether all the names of an inode, that by which it was opened too, were in the tree at one moment.

    They are looked at one after the other, and a name could be moved to where
    it is looked for next. But making, moving and taking away a name changes
    the inode's time of change: it must be the same afterwards as before, and
    old enough for a clock that ticks slowly to tell the difference.
    """
    if time.time_ns() - now.changed < _TICK:
        time.sleep(_TICK / 1e9)
    for name in names:
        other = handles.open(name)
        try:
            if other.now().inode != item.inode:
                return False
        finally:
            other.close()
    return node.now() == now


_TICK = 20_000_000
"""Nanoseconds; the kernel's coarse clock, which stamps changes, ticks at least every 10 milliseconds."""


def _same(now: Now, inode: tuple[int, int], birth: int) -> bool:
    """Whether this is that inode, and not a later one with its number."""
    return now.inode == inode and (now.birth == birth or not now.birth or not birth)


def _without_flags(posture: Posture) -> Posture:
    return posture._replace(flags=())


def entries_of(items: Iterable[Item]) -> Iterator[Entry]:
    """What the history keeps of each item."""
    bare: dict[int, Change] = {}
    for place, item in enumerate(items):
        change = bare.get(id(item.change))
        if change is None:
            given = item.change
            change = bare[id(item.change)] = given._replace(
                before=_without_flags(given.before),
                after=_without_flags(given.after),
                between=tuple(map(_without_flags, given.between)),
            )
        yield Entry(place, item.path, item.inode, item.birth, change.before, change.after, change.between)


def _failed(path: str, error: OSError) -> PathError:
    return PathError(path, error.errno or errno.EIO, "change")
