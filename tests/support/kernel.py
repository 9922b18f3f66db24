"""The kernel as judge: what a process that really is somebody meets when it really tries."""

import ctypes
import errno
import os
import pickle
import struct
import sys
import time
import traceback
from collections.abc import Callable, Iterable
from typing import TypeVar

from fiat.core.model.principals import Principal

STRANGER = 65533
"""A number that owns nothing, to give files to."""

RAN = 7
"""The exit status of a program or script that really ran."""

Result = TypeVar("Result")

_LIBC = ctypes.CDLL(None, use_errno=True)


def as_somebody(who: Principal | None, task: Callable[[], Result]) -> Result:
    """Run ``task`` in a child process that has become ``who`` for good (or stays itself)."""
    reader, writer = os.pipe()

    def report() -> None:
        os.close(reader)
        with os.fdopen(writer, "wb") as out:
            pickle.dump(task(), out)

    child = _child(who, report)
    os.close(writer)
    with os.fdopen(reader, "rb") as result:
        data = result.read()
    _, status = os.waitpid(child, 0)
    assert status == 0, f"the child that became {who} failed"
    value: Result = pickle.loads(data)
    return value


def _child(who: Principal | None, task: Callable[[], None]) -> int:
    """The number of a child process that becomes ``who``, does ``task`` and ends, with status 0 if that went well."""
    child = os.fork()
    if child:
        return child
    status = 1
    try:
        if who is not None:
            become(who)
        task()
        status = 0
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stderr.flush()
        os._exit(status)


def become(who: Principal) -> None:
    """Take on all ids of ``who``: group list, group, user; capabilities go or stay with the uid."""
    assert who.uid is not None
    gids = sorted(who.gids)
    os.setgroups(gids)
    first = gids[0] if gids else 65000
    os.setresgid(first, first, first)
    os.setresuid(who.uid, who.uid, who.uid)


Question = tuple[str, str]
"""A right and a path; ``write in`` and ``create in`` are for the names in a directory."""


def tries(who: Principal | None, questions: list[Question], undo: Callable[[str, str], None]) -> list[int]:
    """The errno (0 for yes) that ``who`` meets at each question.

    What a try that went well has changed is put right by ``undo``, with the
    privilege of this process, before the next try.
    """
    answers, answer = os.pipe()
    proceed, go = os.pipe()

    def try_all() -> None:
        os.close(answers)
        os.close(go)  # else this process would wait for itself, should the other one stop
        _try_all(questions, answer, proceed)

    child = _child(who, try_all)
    os.close(answer)
    os.close(proceed)
    found = []
    try:
        for right, path in questions:
            data = os.read(answers, 4)
            assert len(data) == 4, f"the child that became {who} stopped at {right} {path}"
            (number,) = struct.unpack("i", data)
            found.append(number)
            if right in UNDONE:
                if number == 0:
                    undo(right, path)
                os.write(go, b".")
    finally:
        os.close(answers)
        os.close(go)
        os.waitpid(child, 0)
    return found


def _try_all(questions: Iterable[Question], answer: int, proceed: int) -> None:
    for right, path in questions:
        os.write(answer, struct.pack("i", errno_of(right, path)))
        if right in UNDONE:
            os.read(proceed, 1)


def errno_of(right: str, path: str) -> int:
    """What the kernel answers when this process tries ``right`` on ``path``; 0 for yes."""
    try:
        _TRIES[right](path)
    except OSError as error:
        # granted, and then found wanting: a pipe without a reader, a socket; a directory that is not empty
        if error.errno in (errno.ENXIO, errno.ENOTEMPTY):
            return 0
        return error.errno or 0
    return 0


def _read(path: str) -> None:
    os.close(os.open(path, os.O_RDONLY | os.O_NONBLOCK))


def _list(path: str) -> None:
    os.close(os.open(path, os.O_RDONLY | os.O_DIRECTORY))


def _write(path: str) -> None:
    os.close(os.open(path, os.O_WRONLY | os.O_NONBLOCK))


def _write_in(path: str) -> None:
    name = f"{path}/.try-{time.monotonic_ns()}"
    os.mkdir(name, 0o700)
    os.rmdir(name)


def _create(path: str) -> None:
    os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_NONBLOCK, 0o600))


def _traverse(path: str) -> None:
    os.chdir(path)
    os.chdir("/")


def _execute(path: str) -> None:
    """execve(2), for real; scripts exit with :data:`RAN`."""
    child = os.posix_spawn(path, [path], {}, file_actions=[(os.POSIX_SPAWN_OPEN, 2, "/dev/null", os.O_WRONLY, 0)])
    _, status = os.waitpid(child, 0)
    if os.waitstatus_to_exitcode(status) != RAN:
        raise PermissionError(errno.EACCES, "the interpreter could not read the script")


def _delete(path: str) -> None:
    try:
        os.unlink(path)
    except IsADirectoryError:
        os.rmdir(path)


def _rename(path: str) -> None:
    os.rename(path, path + ".moved")


def _rename_and_back(path: str) -> None:
    os.rename(path, path + ".moved")
    os.rename(path + ".moved", path)


def _delete_by_the_wrong_call(path: str) -> None:
    """rmdir(2) of what is no directory: the kernel's ``may_delete`` asks for the right before it looks at the type."""
    try:
        os.rmdir(path)
    except NotADirectoryError:
        return
    raise AssertionError(f"{path} was a directory")


def _change_group(path: str) -> None:
    gid = os.stat(path).st_gid
    others = [mine for mine in (*os.getgroups(), os.getegid()) if mine != gid] or [STRANGER]
    os.chown(path, -1, STRANGER if os.geteuid() == 0 else others[0])


_TRIES: dict[str, Callable[[str], None]] = {
    "read": _read,
    "write": _write,
    "write in": _write_in,
    "execute": _execute,
    "traverse": _traverse,
    "list": _list,
    "create": _create,
    "create in": lambda path: os.mkdir(f"{path}/.made", 0o700),
    "append": lambda path: os.close(os.open(path, os.O_WRONLY | os.O_APPEND | os.O_NONBLOCK)),
    "create over": _create,
    "delete": _delete,
    "delete by the wrong call": _delete_by_the_wrong_call,
    "rename and back": _rename_and_back,
    "rename": _rename,
    "change-mode": lambda path: os.chmod(path, os.stat(path).st_mode & 0o7777),
    "change-owner": lambda path: os.chown(path, STRANGER, -1),
    "change-group": _change_group,
}

UNDONE = ("create", "create in", "delete", "rename", "change-mode", "change-owner", "change-group")
"""The rights whose try changes something."""


# --- the same questions without the deed -------------------------------------------

_AT_FDCWD, _AT_EACCESS = -100, 0x200


def may(permissions: int, path: str) -> int:
    """The errno of faccessat(2) with effective ids, for 4 read, 2 write, 1 execute; 0 for yes."""
    allowed = _LIBC.faccessat(_AT_FDCWD, os.fsencode(path), permissions, _AT_EACCESS) == 0
    return 0 if allowed else ctypes.get_errno()


# --- capabilities of this very process -----------------------------------------

_CAPABILITY_VERSION_3 = 0x20080522


def keep_capabilities(mask: int, uid: int) -> None:
    """Become the user ``uid`` and hold just the capabilities in ``mask`` (capset(2), prctl(2))."""
    _LIBC.prctl(8, 1, 0, 0, 0)  # PR_SET_KEEPCAPS
    os.setresuid(uid, uid, uid)
    header = struct.pack("Ii", _CAPABILITY_VERSION_3, 0)
    low, high = mask & 0xFFFFFFFF, mask >> 32
    data = struct.pack("6I", low, low, 0, high, high, 0)
    if _LIBC.capset(header, data) != 0:
        raise OSError(ctypes.get_errno(), "capset")
