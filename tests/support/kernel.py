"""The kernel as judge: what a process that really is somebody meets when it really tries."""

import copy  # noqa: F401  who becomes somebody else may not get to Python's own modules any more
import ctypes
import errno
import os
import pickle
import resource  # noqa: F401  the same
import signal
import stat
import struct
import subprocess
import sys
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from multiprocessing.connection import Connection
from typing import Any, NoReturn, TypeVar

from fiat.core.model.principals import Principal, unlisted_user
from support.beside import Beside

STRANGER = 65533
"""A number that owns nothing, to give files to."""

NO_GROUP = 65000
"""The group of who is in none that matters."""

RAN = 7
"""The exit status of a program or script that really ran."""

_EXITS = {"x86_64": "bf07000000b83c0000000f05", "aarch64": "e00080d2a80b80d2010000d4"}
"""exit(7) in the language of each kind of processor."""

_TELLS_WHOSE = {
    "x86_64": "b86b0000000f0589c7b83c0000000f05",
    "aarch64": "e81580d2010000d4a80b80d2010000d4",
}
"""exit(geteuid())."""


def _program(codes: dict[str, str]) -> bytes:
    """A program that needs no loader (elf(5)); empty where the language of this machine is not known."""
    code = bytes.fromhex(codes.get(os.uname().machine, ""))
    number = {"x86_64": 62, "aarch64": 183}.get(os.uname().machine, 0)
    start, size = 0x400078, 0x78 + len(code)
    header = struct.pack("<16sHHIQQQIHHHHHH", b"\x7fELF\2\1\1", 2, number, 1, start, 64, 0, 0, 64, 56, 1, 0, 0, 0)
    segment = struct.pack("<IIQQQQQQ", 1, 5, 0, 0x400000, 0x400000, size, size, 0x1000)
    return header + segment + code if code else b""


PROGRAM = _program(_EXITS)
"""Exits with :data:`RAN`."""

TELLS_WHOSE = _program(_TELLS_WHOSE)
"""Exits with the last byte of the number of the user that it acts as."""

Result = TypeVar("Result")

_LIBC = ctypes.CDLL(None, use_errno=True)
_NULL = os.open(os.devnull, os.O_WRONLY)


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


def with_places(places: dict[str, str], task: Callable[[], Result]) -> Result:
    """What comes of ``task`` in a process for which other folders lie at some paths."""

    def there() -> Result:
        assert _LIBC.unshare(_NEW_MOUNTS) == 0
        subprocess.run(["mount", "--make-rprivate", "/"], check=True)
        for at, folder in places.items():
            subprocess.run(["mount", "--bind", folder, at], check=True)
        return task()

    return as_somebody(None, there)


_NEW_MOUNTS = 0x00020000  # CLONE_NEWNS


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
    first = who.gid if who.gid is not None else gids[0] if gids else NO_GROUP
    os.setresgid(first, first, first)
    os.setresuid(who.uid, who.uid, who.uid)


@contextmanager
def stranger_holds(take: Callable[[], object]) -> Iterator[None]:
    """Another process, of :data:`STRANGER`, has done ``take`` and holds on to what it took."""
    ready, told = os.pipe()

    def hold() -> None:
        try:
            take()
        finally:
            os.write(told, b"x")
        signal.pause()

    child = _child(unlisted_user(STRANGER, (STRANGER,)), hold)
    os.read(ready, 1)
    try:
        yield
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        os.close(ready)
        os.close(told)


Question = tuple[str, str]
"""A right and a path; ``write in`` and ``create in`` are for the names in a directory."""


def tries(who: Principal | None, questions: list[Question], undo: Callable[[str, str], None]) -> list[int]:
    """The errno (0 for yes) that ``who`` meets at each question.

    What a try that went well has changed is put right by ``undo``, with the
    privilege of this process, before the next try.
    """
    with Subject(lambda _: become(who) if who is not None else None) as subject:
        return subject.tries(questions, undo)


MapIds = Callable[[str, str], None]
"""Gives the process that calls it the users and groups of its new user namespace (user_namespaces(7), uid_map)."""


class Subject(Beside):
    """A process that has done ``setup``, then waits, and tries what it is asked to.

    ``made`` is what its setup returned. It ends with the ``with`` block.
    """

    def __init__(self, setup: Callable[[MapIds], object]) -> None:
        super().__init__(lambda away: _subject(setup, away))
        while (message := self._received())[0] == "maps":
            for name, text in zip(("uid_map", "gid_map"), message[1:], strict=True):
                with open(f"/proc/{self.pid}/{name}", "w") as file:
                    file.write(text)
            self.there.send(None)
        self.made = message[1]

    def _received(self) -> Any:
        try:
            return self.there.recv()
        except EOFError:
            raise AssertionError(f"process {self.pid} that was to try stopped") from None

    def tries(
        self, questions: list[Question], undo: Callable[[str, str], None] = lambda right, path: None
    ) -> list[int]:
        """What it meets at each question; see :func:`tries`."""
        self.there.send(questions)
        found: list[int] = []
        while len(found) < len(questions):  # it stops after each that changed something
            found += self._received()
            right, path = questions[len(found) - 1]
            if right in UNDONE and found[-1] == 0:
                undo(right, path)
                self.there.send(None)
        return found

    def __enter__(self) -> "Subject":
        return self


def _subject(setup: Callable[[MapIds], object], away: Connection) -> NoReturn:
    def map_ids(users: str, groups: str) -> None:
        away.send(("maps", users, groups))
        away.recv()

    away.send(("made", setup(map_ids)))
    while True:
        answers: list[int] = []
        for right, path in away.recv():
            answers.append(errno_of(right, path))
            if right in UNDONE and answers[-1] == 0:
                away.send(answers)
                answers = []
                away.recv()
        if answers:
            away.send(answers)


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
    child = os.posix_spawn(path, [path], {}, file_actions=[(os.POSIX_SPAWN_DUP2, _NULL, 2)])
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
    """rmdir(2) of what is no directory, unlink(2) of what is one: the kernel's ``may_delete`` asks for the right before
    it looks at the type."""
    try:
        directory = stat.S_ISDIR(os.lstat(path).st_mode)
    except FileNotFoundError:
        directory = True
    try:
        (os.unlink if directory else os.rmdir)(path)
    except (NotADirectoryError, IsADirectoryError):
        return
    raise AssertionError(f"{path} was removed")


def _change_group(path: str) -> None:
    gid = os.stat(path).st_gid
    others = [mine for mine in (*os.getgroups(), os.getegid()) if mine != gid]
    for other in others:
        try:
            os.chown(path, -1, other)
            return
        except OSError as error:
            if error.errno != errno.EOVERFLOW:  # a mount may have no number on disk for one and have it for another
                raise
    os.chown(path, -1, STRANGER)


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


def keep_capabilities(mask: int, uid: int, inheritable: int = 0) -> None:
    """Become the user ``uid`` and hold just the capabilities in ``mask`` (capset(2), prctl(2))."""
    _call("prctl", 8, 1, 0, 0, 0)  # PR_SET_KEEPCAPS
    os.setresuid(uid, uid, uid)
    header = struct.pack("Ii", _CAPABILITY_VERSION_3, 0)
    low, high = mask & 0xFFFFFFFF, mask >> 32
    data = struct.pack("6I", low, low, inheritable & 0xFFFFFFFF, high, high, inheritable >> 32)
    _call("capset", header, data)


def _call(name: str, *arguments: int | bytes | None) -> None:
    if getattr(_LIBC, name)(*arguments) != 0:
        raise OSError(ctypes.get_errno(), name)


def bound_capabilities(mask: int) -> None:
    """Take everything else out of the bounding set (PR_CAPBSET_DROP)."""
    for number in range(41):
        if not mask >> number & 1:
            _call("prctl", 24, number, 0, 0, 0)


def raise_ambient(mask: int) -> None:
    """Keep these across execve(2); they must be permitted and inheritable (PR_CAP_AMBIENT_RAISE)."""
    for number in range(41):
        if mask >> number & 1:
            _call("prctl", 47, 2, number, 0, 0)


def gain_no_privileges() -> None:
    """PR_SET_NO_NEW_PRIVS."""
    _call("prctl", 38, 1, 0, 0, 0)


def root_gains_nothing() -> None:
    """PR_SET_SECUREBITS with SECBIT_NOROOT: number 0 gains no capabilities by running a program."""
    _call("prctl", 28, 1, 0, 0, 0)


# --- namespaces of this very process -------------------------------------------

NEW_MOUNTS, NEW_USERS = 0x20000, 0x10000000
"""CLONE_NEWNS and CLONE_NEWUSER of unshare(2)."""

READ_ONLY, NO_SUID, NO_DEV, NO_EXEC, NO_SYMFOLLOW = 1, 2, 4, 8, 256
_REMOUNT, _BIND, _PRIVATE_BELOW = 32, 4096, 1 << 18 | 1 << 14


def unshare(what: int) -> None:
    """Go on in namespaces of one's own (unshare(2)); mounts made from then on are nobody else's."""
    _call("unshare", what)
    if what & NEW_MOUNTS:
        _call("mount", b"none", b"/", None, _PRIVATE_BELOW, None)


def bind(path: str, point: str, options: int = 0) -> None:
    """Mount ``path`` at ``point`` as well, with these options (mount(2))."""
    _call("mount", os.fsencode(path), os.fsencode(point), None, _BIND, None)
    if options:
        _call("mount", b"none", os.fsencode(point), None, _BIND | _REMOUNT | options, None)


def unmount(point: str) -> None:
    """Take away what is mounted last at ``point``, in use or not (umount2(2), MNT_DETACH)."""
    _call("umount2", os.fsencode(point), 2)


def mount(kind: str, point: str, options: str) -> None:
    """Mount a file system that needs no device."""
    _call("mount", b"none", os.fsencode(point), kind.encode(), 0, os.fsencode(options))


def mount_memory(point: str) -> None:
    """Mount an empty tmpfs at ``point``."""
    mount("tmpfs", point, "mode=0755")


SETTING = 1 << 6 | 1 << 7 | 1 << 18
"""CAP_SETGID, CAP_SETUID and CAP_SYS_CHROOT: what it takes to become somebody else, somewhere else."""

SYS_ADMIN = 1 << 21
"""CAP_SYS_ADMIN, which mount(2) takes."""
