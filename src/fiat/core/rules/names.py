"""The checks for changing names in a directory: create, delete, rename.

open(2), unlink(2), rmdir(2), rename(2), and inode(7) for the sticky bit; the
kernel's ``may_create``, ``may_delete``, ``check_sticky`` and
``may_create_in_sticky``; proc_sys_fs(5) for ``protected_regular`` and
``protected_fifos``.
"""

import errno
from collections.abc import Iterator

from fiat.core.model import capabilities
from fiat.core.model.mode import EXECUTE, STICKY, WRITE
from fiat.core.model.posture import Kind, Object
from fiat.core.rules import objects
from fiat.core.rules.check import Check, Context, flat, has_flag
from fiat.core.rules.walking import failure_check
from fiat.core.tree.route import Route


def create(context: Context, route: Route, object_: Object | None) -> Iterator[Check]:
    """Make a new name: in a directory that is there, or the last name of a path that is not.

    On anything else that is there: open it for writing as a program does that
    would make it if it were not (O_CREAT).
    """
    if object_ is None:
        if route.missing_in is None:
            yield failure_check(route, "create")
        else:
            yield from _change_names(context, route.missing_in, "create")
    elif object_.posture.directory:
        yield from _change_names(context, object_, "create")
    else:
        yield from _create_over(context, route, object_)
        yield from objects.write(context, route, object_)


def delete(context: Context, route: Route, object_: Object | None) -> Iterator[Check]:
    """Remove the name. A directory must be empty for that, which is not asked here."""
    yield from _remove(context, route, object_, "delete")


def rename(context: Context, route: Route, object_: Object | None) -> Iterator[Check]:
    """Give it another name in the same directory."""
    yield from _remove(context, route, object_, "rename")


def _remove(context: Context, route: Route, victim: Object | None, needs: str) -> Iterator[Check]:
    if victim is None:
        # The mount is asked for before the name is looked up.
        if route.missing_in is not None and route.missing_in.mount is not None and route.missing_in.mount.read_only:
            yield flat(route.missing_in, needs, errno.EROFS, "read-only")
        yield failure_check(route, needs)
        return
    parent = next((found for found in reversed(route.directories)), None)
    if parent is None:
        yield flat(victim, needs, errno.EBUSY, "root-directory")
        return
    yield from _change_names(context, parent, needs)
    if victim.mount is not None and victim.mount.point == victim.path:
        # What is checked from here on is the directory that the mount covers, which nobody can see.
        yield flat(victim, needs, errno.EBUSY, "mount-point")
        return
    if has_flag(parent, "append-only"):
        yield flat(parent, needs, errno.EPERM, "append-only")
    if parent.posture.mode & STICKY:
        universe = context.universe
        keepers = universe.with_uid(victim.posture.uid) | universe.with_uid(parent.posture.uid)
        keepers |= universe.holding(capabilities.FOWNER)
        yield flat(parent, needs, errno.EPERM, "sticky", keepers)
    for flag in ("append-only", "immutable"):
        if has_flag(victim, flag):
            yield flat(victim, needs, errno.EPERM, flag)


def _change_names(context: Context, directory: Object, needs: str) -> Iterator[Check]:
    yield from objects.before_permission_to_write(directory, needs, names=True)
    yield context.permission(directory, needs, WRITE | EXECUTE, errno.EACCES)


def _create_over(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """fs.protected_regular and fs.protected_fifos: in a sticky directory, only over one's own."""
    parent = next((found for found in reversed(route.directories)), None)
    kind, settings = object_.posture.kind, context.settings
    level = {Kind.FILE: settings.protected_regular, Kind.FIFO: settings.protected_fifos}.get(kind, 1)
    if parent is None or not level or not parent.posture.mode & STICKY:
        return
    if object_.posture.uid == parent.posture.uid:
        return
    if parent.posture.mode & 0o002 or (parent.posture.mode & 0o020 and level >= 2 and kind in (Kind.FILE, Kind.FIFO)):
        owner = context.universe.with_uid(object_.posture.uid)
        rule = "protected-fifos" if kind is Kind.FIFO else "protected-regular"
        yield flat(object_, "create", errno.EACCES, rule, owner)
