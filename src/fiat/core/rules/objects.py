"""The checks at the end of a route for using the object: read, write, append, execute, traverse, list.

open(2), mount(2), ioctl_iflags(2); the kernel's ``may_open``,
``inode_permission`` and ``sb_permission``.
"""

import errno
from collections.abc import Iterator

from fiat.core.model.kind import NEVER_READ_ONLY, Kind
from fiat.core.model.mode import EXECUTE, READ, WRITE
from fiat.core.model.posture import Object
from fiat.core.model.right import APPEND, CREATE, DELETE, LIST, RENAME, TRAVERSE, Right
from fiat.core.model.right import READ as RIGHT_TO_READ
from fiat.core.model.right import WRITE as RIGHT_TO_WRITE
from fiat.core.model.route import Route
from fiat.core.rules.check import Check, Context, flat, has_flag, has_option

_DEVICES = (Kind.BLOCK, Kind.CHARACTER)


def permissions_for(right: Right, kind: Kind) -> int:
    """The permissions that one entry must hold together for ``right``.

    A write to a directory adds and removes names, which takes write and
    traverse at once.
    """
    if right is RIGHT_TO_READ or right is LIST:
        return READ
    if right in (RIGHT_TO_WRITE, APPEND, CREATE):
        return WRITE | EXECUTE if kind is Kind.DIRECTORY else WRITE
    return WRITE | EXECUTE if right in (DELETE, RENAME) else EXECUTE


def read(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Open for reading; for a directory, list its names."""
    yield from _device(object_, RIGHT_TO_READ)
    yield permission(context, object_, RIGHT_TO_READ)


def list_names(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """List the names in a directory."""
    yield from _in_directory(context, object_, LIST)


def traverse(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Enter a directory, or use a name in it."""
    yield from _in_directory(context, object_, TRAVERSE)


def _in_directory(context: Context, object_: Object, right: Right) -> Iterator[Check]:
    if not object_.posture.directory:
        yield flat(object_, right.name, errno.ENOTDIR, "not-a-directory")
        return
    yield permission(context, object_, right)


def write(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Open for writing; for a directory, add and remove names."""
    yield from _write(context, object_, RIGHT_TO_WRITE)


def append(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Open a file for adding at its end (O_APPEND), which the append-only flag allows."""
    if object_.posture.directory:
        yield flat(object_, APPEND.name, errno.EISDIR, "a-directory")
        return
    yield from _write(context, object_, APPEND)


def _write(context: Context, object_: Object, right: Right) -> Iterator[Check]:
    posture = object_.posture
    yield from _device(object_, right)
    yield from before_permission_to_write(object_, right, names=posture.directory)
    yield permission(context, object_, right)
    if right is not APPEND and has_flag(object_, "append-only"):
        yield flat(object_, right.name, errno.EPERM, "append-only")
    if not posture.directory and posture.kind not in NEVER_READ_ONLY and has_option(object_.mount, "ro"):
        yield flat(object_, right.name, errno.EROFS, "read-only")


def before_permission_to_write(object_: Object, right: Right, *, names: bool) -> Iterator[Check]:
    """What refuses a write before the permission bits are asked.

    A read-only file system and the immutable flag always do. A read-only
    mount does so only where names are changed (``mnt_want_write`` comes first
    there); an existing file is opened, and only then found to be read-only.
    """
    mount = object_.mount
    refused = mount is not None and (mount.filesystem_read_only or (names and has_option(mount, "ro")))
    if refused and object_.posture.kind not in NEVER_READ_ONLY:
        yield flat(object_, right.name, errno.EROFS, "read-only")
    if has_flag(object_, "immutable"):
        yield flat(object_, right.name, errno.EPERM, "immutable")


def _device(object_: Object, right: Right) -> Iterator[Check]:
    if object_.posture.kind in _DEVICES and has_option(object_.mount, "nodev"):
        yield flat(object_, right.name, errno.EACCES, "nodev")


def permission(context: Context, object_: Object, right: Right) -> Check:
    """The check that the classes of the object make for ``right``."""
    return context.permission(object_, right.name, permissions_for(right, object_.posture.kind), errno.EACCES)
