"""Keeping runs that use one history off each other's objects.

The lock is on ranges of a file beside the history, which only its owner can open:
a lock on anything that others can open would let a stranger stop root. Each object
is one byte of that file, by its identity. A run locks the top of what it changes
against everyone, and the directories on the way there against those who would
change all below them; so two runs meet exactly where one's tree holds the other's.
The kernel lets go of the locks when the process ends, however it ends.
"""

import fcntl
import os
import struct
from binascii import crc32
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager

from fiat.core.change.history import Claim
from fiat.core.model.posture import Identity


def this_process() -> str:
    """What tells this process from any other, before and after a restart of the machine too."""
    return f"{os.getpid()} {_started(os.getpid())}"


def still_runs(process: str) -> bool:
    """Whether the process that :func:`this_process` named is still there."""
    number, _, started = process.partition(" ")
    return number.isascii() and number.isdecimal() and bool(started) and _started(int(number[:18])) == started


def _started(pid: int) -> str:
    """When a process began, with the number of this boot (proc(5)); empty where there is none."""
    try:
        with open(f"/proc/{pid}/stat", "rb") as file:
            since = file.read().rpartition(b")")[2].split()[19].decode()
        with open("/proc/sys/kernel/random/boot_id", "rb") as file:
            return f"{since} {file.read().strip().decode()}"
    except OSError:
        return ""


_FLOCK = struct.Struct("hhxxxxqqixxxx")
"""``struct flock`` of fcntl(2): type, whence, start, length, process."""

_PLACES = (1 << 62) - 1


@contextmanager
def locked(path: str, claims: Iterable[Claim], waiting: Callable[[], None]) -> Iterator[None]:
    """Hold what is claimed, by locks on the file at ``path``; ``waiting`` is called once before waiting for others.

    Raises OSError where the file cannot be opened.
    """
    fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_NONBLOCK, 0o600)
    try:
        found = os.fstat(fd)
        if found.st_mode & 0o600 != 0o600 and found.st_uid == os.geteuid():
            os.fchmod(fd, 0o600)  # a umask may take away even what the owner needs to open it again
        told = False
        for place, kind in _places(claims):
            lock = _FLOCK.pack(kind, os.SEEK_SET, place, 1, 0)
            try:
                fcntl.fcntl(fd, fcntl.F_OFD_SETLK, lock)
            except (BlockingIOError, PermissionError):
                if not told:
                    waiting()
                told = True
                fcntl.fcntl(fd, fcntl.F_OFD_SETLKW, lock)
        yield
    finally:
        os.close(fd)


def _places(claims: Iterable[Claim]) -> list[tuple[int, int]]:
    """The bytes to lock, each with how; all take them in this order, so that no two wait for each other."""
    kinds: dict[int, int] = {}
    for claim in claims:
        for identity in claim.above:
            kinds.setdefault(_place(identity), fcntl.F_RDLCK)
        kinds[_place(claim.top)] = fcntl.F_WRLCK
    return sorted(kinds.items())


def _place(identity: Identity) -> int:
    """A number for an object. Should two have the same, one waits for the other without need."""
    of_system = crc32(f"{identity.filesystem} {identity.birth}".encode("utf-8", "surrogateescape"))
    return (of_system << 30 ^ identity.inode) & _PLACES
