"""Applying a plan: each object compared with what the plan saw, changed through its handle, and read back."""

import errno
from collections.abc import Iterable, Iterator
from itertools import repeat

from fiat.core.change.planned import Item, Items
from fiat.core.change.rewriting import (
    LeftObject,
    Outcome,
    Stopping,
    TriedObjects,
    failed,
    outcome_of,
    rewrite,
    same_posture,
)
from fiat.core.change.steps import Change
from fiat.core.change.together import Attempt, Came, Tried, left_after, try_all
from fiat.core.errors import OtherNow, PathError
from fiat.core.model.glance import Glance
from fiat.core.model.host import Host, Node
from fiat.core.model.posture import Identity
from fiat.core.model.principals import Principal
from fiat.core.tree.walk import Handles


def apply(
    host: Host, items: Items, stopping: Stopping, places: range | None = None, *, at_once: bool = False
) -> Iterator[TriedObjects]:
    """Change the items at ``places``, by default all, one after the other, or several ``at_once`` where a host can."""
    handles = Handles(host)
    actor = host.actor()
    changes = [planned.change for planned in items.planned]

    def change(place: int) -> Outcome | None:
        return outcome_of(place, _change(handles, items[place], actor))

    def attempts(several: range) -> list[Attempt | None]:
        some = slice(several.start, several.stop)
        theirs = map(changes.__getitem__, items.numbers[some])
        columns = items.paths[some], items.identities[some], theirs, items.links[some]
        found: list[Attempt | None] = list(zip(*columns, repeat(False), strict=False))
        for place in items.names.keys() & several:
            found[place - several.start] = None
        return found

    def after_attempt(place: int, tried: Tried) -> Outcome | None:
        return outcome_of(place, _after(handles, items[place], actor, tried))

    try:
        every = range(len(items)) if places is None else places
        yield from try_all(host, every, attempts, change, after_attempt, stopping, at_once=at_once)
    finally:
        handles.close()


def _change(handles: Handles, item: Item, actor: Principal) -> LeftObject:
    """Change one object."""
    try:
        node = handles.open(item.path)
    except (OSError, MemoryError) as error:
        return LeftObject(failed(item.path, error))
    return _change_held(handles, item, actor, node)


def _after(handles: Handles, item: Item, actor: Principal, tried: Tried) -> LeftObject:
    """Go on where an attempt to change one has ended."""
    node, refused = tried.node, OSError(tried.errno, "")
    if node is None:
        return LeftObject(failed(item.path, refused))
    if tried.came is Came.OTHERWISE:
        return _change_held(handles, item, actor, node)
    try:
        return left_after(node, item.change, actor, tried)
    finally:
        node.close()


def _change_held(handles: Handles, item: Item, actor: Principal, node: Node) -> LeftObject:
    """Change one that is held, and let go of it."""
    path, change = item.path, item.planned.change
    try:
        try:
            if item.names is not None or not node.matches(change.before, item.identity, item.links):
                problem = _other_than_planned(handles, item, node)
                if problem is not None:
                    return LeftObject(problem)
        except (OSError, MemoryError) as error:
            return LeftObject(failed(path, error))
        return rewrite(node, change, actor)
    finally:
        node.close()


def _other_than_planned(handles: Handles, item: Item, node: Node) -> PathError | None:
    """Why what ``node`` holds is not what the plan saw; None if it is."""
    path = item.path
    found = node.glance()
    if found.identity != item.identity and not found.identity.same_as(item.identity):
        return OtherNow(path, "change", "another object is there now, and is left alone")
    if not same_posture(found.posture, item.change.before):
        return OtherNow(path, "change", "it was changed meanwhile, and is left alone")
    if found.links != item.links and not found.posture.directory:
        return OtherNow(path, "change", "its names were changed meanwhile, and it is left alone")
    if item.names is not None and not _all_names_there(handles, item.names, found, node):
        return OtherNow(path, "change", "one of its names is elsewhere now, and it is left alone")
    return None


def _all_names_there(handles: Handles, names: Iterable[str], found: Glance, node: Node) -> bool:
    """Whether all the names of an inode, that by which it was opened too, were in the tree at one moment.

    They are looked at one after the other, and a name could be moved to where
    it is looked for next. But making, moving and taking away a name changes
    the inode's time of change: it must be the same afterwards as before, and
    old enough for a clock that ticks slowly to tell the difference.
    """
    handles.host.wait_for_clock(found.changed or 0)
    for name in names:
        other = handles.open(name)
        try:
            if not other.glance().identity.same_as(found.identity):
                return False
        finally:
            other.close()
    return node.glance() == found


def settle(host: Host, intended: Iterable[tuple[int, str, Identity, Change]]) -> Iterator[TriedObjects]:
    """What has become of objects that a process was changing when it was killed: each is looked at.

    Of each there is its place, its path, which it is and its change. Those that
    are as before count as not tried.
    """
    handles = Handles(host)
    try:
        for place, path, identity, change in intended:
            left = _settled(handles, path, identity, change)
            if left is not None:
                outcome = outcome_of(place, left)
                yield TriedObjects(place, place + 1, () if outcome is None else (outcome,))
    finally:
        handles.close()


def _settled(handles: Handles, path: str, identity: Identity, change: Change) -> LeftObject | None:
    """How one of them was left; None where it is as before."""
    try:
        node = handles.open(path)
        try:
            found = node.glance()
        finally:
            node.close()
    except (OSError, MemoryError) as error:
        return LeftObject(failed(path, error, "find out what was done to"), True)
    if not found.identity.same_as(identity):
        return LeftObject(OtherNow(path, "change", "another object is there now"))
    if same_posture(found.posture, change.after):
        return LeftObject()
    if same_posture(found.posture, change.before):
        return None
    return LeftObject(PathError(path, errno.EINTR, "change all of", "a part is changed"), True, found.posture)
