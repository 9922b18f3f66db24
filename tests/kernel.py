"""The kernel as judge: what a process that really is somebody meets when it really tries."""

import ctypes
import errno
import os
import pickle
import stat
import sys
import traceback
from collections.abc import Callable
from typing import TypeVar

from fiat.core.principals import Principal

_LIBC = ctypes.CDLL(None, use_errno=True)
_AT_FDCWD = -100
_AT_EACCESS = 0x200

Result = TypeVar("Result")


def as_somebody(who: Principal | None, task: Callable[[], Result]) -> Result:
    """Run ``task`` in a child process that has become ``who`` for good (or stays itself)."""
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:
        status = 1
        try:
            os.close(reader)
            if who is not None:
                become(who)
            with os.fdopen(writer, "wb") as out:
                pickle.dump(task(), out)
            status = 0
        except BaseException:
            traceback.print_exc()
        finally:
            sys.stderr.flush()
            os._exit(status)
    os.close(writer)
    with os.fdopen(reader, "rb") as result:
        data = result.read()
    _, status = os.waitpid(child, 0)
    assert status == 0, f"the child that became {who} failed"
    value: Result = pickle.loads(data)
    return value


def become(who: Principal) -> None:
    """Take on all ids of ``who``: group list, group, user; capabilities go or stay with the uid."""
    assert who.uid is not None
    gids = sorted(who.gids)
    os.setgroups(gids)
    first = gids[0] if gids else 65000
    os.setresgid(first, first, first)
    os.setresuid(who.uid, who.uid, who.uid)


def errno_of(right: str, path: str) -> int:
    """What the kernel answers when this process tries ``right`` on ``path``; 0 for yes."""
    try:
        _try(right, path)
    except OSError as error:
        # A pipe without a reader, after the permission to write to it was granted
        return 0 if error.errno == errno.ENXIO else error.errno or 0
    return 0


def _try(right: str, path: str) -> None:
    if right == "read":
        os.close(os.open(path, os.O_RDONLY | os.O_NONBLOCK))
    elif right == "execute":
        _faccessat(path, os.X_OK)
    elif right == "traverse":
        here = os.open("/", os.O_PATH)
        try:
            os.chdir(path)
            os.fchdir(here)
        finally:
            os.close(here)
    elif _is_directory(path):
        _add_and_remove(path)
    else:
        os.close(os.open(path, os.O_WRONLY | os.O_NONBLOCK))


def _is_directory(path: str) -> bool:
    try:
        return stat.S_ISDIR(os.stat(path).st_mode)
    except OSError:
        return False


def _add_and_remove(path: str) -> None:
    name = os.path.join(path, f".try-{os.getpid()}")
    os.mkdir(name, 0o700)
    os.rmdir(name)


def _faccessat(path: str, mode: int) -> None:
    """faccessat(2) with effective ids: the check without the deed."""
    if _LIBC.faccessat(_AT_FDCWD, os.fsencode(path), mode, _AT_EACCESS) != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number), path)
