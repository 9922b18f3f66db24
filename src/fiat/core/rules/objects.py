"""The checks at the end of a route for using the object: read, write, execute, traverse, list.

open(2), execve(2), mount(2), ioctl_iflags(2); the kernel's ``may_open``,
``inode_permission``, ``sb_permission`` and ``load_script``.
"""

import errno
from collections.abc import Iterator

from fiat.core.model.mode import EXECUTE, READ, WRITE
from fiat.core.model.posture import Kind, Object
from fiat.core.rules.check import Check, Context, file_system_read_only, flat, has_flag, has_option
from fiat.core.rules.walking import failure_check, stage_checks
from fiat.core.tree.route import MAX_INTERPRETERS, Route

NEVER_READ_ONLY = (Kind.FIFO, Kind.SOCKET, Kind.BLOCK, Kind.CHARACTER)
"""What may be written on a read-only file system: it does not hold their contents."""

_DEVICES = (Kind.BLOCK, Kind.CHARACTER)


def permissions_for(right: str, kind: Kind) -> int:
    """The permissions that one entry must hold together for ``right``.

    A write to a directory adds and removes names, which takes write and
    traverse at once.
    """
    if right == "write" and kind is Kind.DIRECTORY:
        return WRITE | EXECUTE
    return {"read": READ, "list": READ, "write": WRITE}.get(right, EXECUTE)


def read(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Open for reading; for a directory, list its names."""
    yield from _device(object_, "read")
    yield _permission(context, object_, "read")


def list_names(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """List the names in a directory."""
    if not object_.posture.directory:
        yield flat(object_, "list", errno.ENOTDIR, "not-a-directory")
        return
    yield _permission(context, object_, "list")


def traverse(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Enter a directory, or use a name in it."""
    if not object_.posture.directory:
        yield flat(object_, "traverse", errno.ENOTDIR, "not-a-directory")
        return
    yield _permission(context, object_, "traverse")


def write(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Open for writing; for a directory, add and remove names."""
    posture = object_.posture
    yield from _device(object_, "write")
    yield from before_permission_to_write(object_, "write", names=posture.directory)
    yield _permission(context, object_, "write")
    if has_flag(object_, "append-only"):
        yield flat(object_, "write", errno.EPERM, "append-only")
    if not posture.directory and posture.kind not in NEVER_READ_ONLY and has_option(object_.mount, "ro"):
        yield flat(object_, "write", errno.EROFS, "read-only")


def before_permission_to_write(object_: Object, needs: str, *, names: bool) -> Iterator[Check]:
    """What refuses a write before the permission bits are asked.

    A read-only file system and the immutable flag always do. A read-only
    mount does so only where names are changed (``mnt_want_write`` comes first
    there); an existing file is opened, and only then found to be read-only.
    """
    refused = file_system_read_only(object_.mount) or (names and has_option(object_.mount, "ro"))
    if refused and object_.posture.kind not in NEVER_READ_ONLY:
        yield flat(object_, needs, errno.EROFS, "read-only")
    if has_flag(object_, "immutable"):
        yield flat(object_, needs, errno.EPERM, "immutable")


def execute(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Run it: a program, or a script together with its interpreter."""
    return _execute(context, route, object_, depth=0)


def _execute(context: Context, route: Route, object_: Object, depth: int) -> Iterator[Check]:
    """``depth`` counts the scripts whose interpreter this is."""
    if object_.posture.kind is not Kind.FILE:
        yield flat(object_, "execute", errno.EACCES, "not-a-program")
        return
    if has_option(object_.mount, "noexec"):
        yield flat(object_, "execute", errno.EACCES, "noexec")
    yield _permission(context, object_, "execute")
    if depth > MAX_INTERPRETERS:
        yield flat(object_, "execute", errno.ELOOP, "too-many-interpreters")
    elif route.interpreter is not None:
        yield from _interpreted(context, route, object_, route.interpreter, depth + 1)


def _interpreted(context: Context, route: Route, script: Object, interpreter: Route, depth: int) -> Iterator[Check]:
    """A script runs when its interpreter can be run, and can then read the script.

    The interpreter reads it as a program that the principal has run: it walks
    to the script by itself, without the capabilities that execve(2) takes
    away (capabilities(7), "Transformation of capabilities during execve()").
    """
    for check in stage_checks(context, interpreter):
        yield check._replace(script=script.path)
    if interpreter.end is None:
        yield failure_check(interpreter, "execute")._replace(rule="interpreter-missing", script=script.path)
        return
    for check in _execute(context, interpreter, interpreter.end, depth):
        yield check._replace(script=check.script or script.path)
    run = context.after_exec()
    if run is not context:
        for check in stage_checks(run, route):
            yield check._replace(script=script.path)
    yield _permission(run, script, "read")._replace(script=script.path)


def _device(object_: Object, needs: str) -> Iterator[Check]:
    if object_.posture.kind in _DEVICES and has_option(object_.mount, "nodev"):
        yield flat(object_, needs, errno.EACCES, "nodev")


def _permission(context: Context, object_: Object, needs: str) -> Check:
    return context.permission(object_, needs, permissions_for(needs, object_.posture.kind), errno.EACCES)
