"""The checks for changing names in a directory: create, delete, rename.

open(2), unlink(2), rmdir(2), rename(2), and inode(7) for the sticky bit; the
kernel's ``may_create``, ``may_delete``, ``check_sticky`` and
``may_create_in_sticky``; proc_sys_fs(5) for ``protected_regular`` and
``protected_fifos``.

``named`` is the object that the name leads to, ``parent`` the directory that
holds it. Of ``named`` nothing counts here but its owner, its flags, its type,
and whether something is mounted there.
"""

import errno
from collections.abc import Iterator

from fiat.core.model import capabilities
from fiat.core.model.kind import Kind
from fiat.core.model.mode import STICKY
from fiat.core.model.posture import Object
from fiat.core.model.right import CREATE, Right
from fiat.core.model.route import Route
from fiat.core.rules import objects
from fiat.core.rules.check import Check, Context, flat, has_flag
from fiat.core.rules.walking import failure_check


def create(context: Context, route: Route) -> Iterator[Check]:
    """Make the last name of a path that is not there."""
    if route.missing_in is None:
        yield failure_check(route, CREATE.name)
    else:
        yield from _change_names(context, route.missing_in, CREATE)


def create_in(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Make a new name in a directory; anything else is opened for writing, which :func:`create_over` precedes."""
    if object_.posture.directory:
        yield from _change_names(context, object_, CREATE)
    else:
        yield from objects.write(context, route, object_)


def create_over(context: Context, parent: Object | None, named: Object) -> Iterator[Check]:
    """fs.protected_regular and fs.protected_fifos: in a sticky directory, what is there is opened only by its owner.

    This is about a program that would make the file if it were not there (O_CREAT).
    """
    if named.posture.directory or parent is None or not parent.posture.mode & STICKY:
        return
    kind, settings = named.posture.kind, context.settings
    level = {Kind.FILE: settings.protected_regular, Kind.FIFO: settings.protected_fifos}.get(kind, 1)
    if not level or named.posture.uid == parent.posture.uid:
        return
    if parent.posture.mode & 0o002 or (parent.posture.mode & 0o020 and level >= 2 and kind in (Kind.FILE, Kind.FIFO)):
        owner = context.universe.with_uid(named.posture.uid)
        rule = "protected-fifos" if kind is Kind.FIFO else "protected-regular"
        yield flat(named, CREATE.name, errno.EACCES, rule, owner)


def remove_missing(route: Route, right: Right) -> Iterator[Check]:
    """Remove or rename a name that is not there: the mount is asked for before the name is looked up."""
    if route.missing_in is not None and route.missing_in.mount is not None and route.missing_in.mount.read_only:
        yield flat(route.missing_in, right.name, errno.EROFS, "read-only")
    yield failure_check(route, right.name)


def remove(context: Context, parent: Object | None, named: Object, right: Right) -> Iterator[Check]:
    """Remove the name, or give it another one in the same directory.

    A directory must be empty to be removed, which is not asked here.
    """
    if parent is None:
        yield flat(named, right.name, errno.EBUSY, "root-directory")
        return
    yield from _change_names(context, parent, right)
    if named.mount_point:
        # What is checked from here on is the directory that the mount covers, which nobody can see.
        yield flat(named, right.name, errno.EBUSY, "mount-point")
        return
    if has_flag(parent, "append-only"):
        yield flat(parent, right.name, errno.EPERM, "append-only")
    if parent.posture.mode & STICKY:
        universe = context.universe
        keepers = universe.with_uid(named.posture.uid) | universe.with_uid(parent.posture.uid)
        keepers |= universe.holding(capabilities.FOWNER, named.posture.uid, named.posture.gid)
        yield flat(parent, right.name, errno.EPERM, "sticky", keepers)
    for flag in ("append-only", "immutable"):
        if has_flag(named, flag):
            yield flat(named, right.name, errno.EPERM, flag)


def _change_names(context: Context, directory: Object, right: Right) -> Iterator[Check]:
    yield from objects.before_permission_to_write(directory, right, names=True)
    want = objects.permissions_for(right, Kind.DIRECTORY)
    yield context.permission(directory, right.name, want, errno.EACCES)
