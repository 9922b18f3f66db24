"""A running process as the kernel knows it: who it is, what bounds its powers, and what it sees of the file tree.

proc(5); capabilities(7), user_namespaces(7), mount_namespaces(7),
pid_namespaces(7). Everything is read through one handle on ``/proc/PID``,
which leads to that very process: once it has ended nothing can be read there,
though its number be in use again. What it is may change meanwhile (it drops
privileges, it moves to another namespace): it is read until it stood still.
"""

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

from fiat.core.errors import UnknownAccount
from fiat.core.model import idmap
from fiat.core.model.idmap import IdMap, NumberMap
from fiat.core.model.principals import Limits, Principal, Ranges
from fiat.core.rules.programs import left_after_exec
from fiat.host.live.facts import mount_id
from fiat.host.live.namespace import own_numbers

_TRIES = 5
"""How often a process is read that does not stand still."""

_NO_ROOT = 1
"""SECBIT_NOROOT of capabilities(7): number 0 gains nothing by running a program."""

_GET_SECUREBITS = 27
"""PR_GET_SECUREBITS of prctl(2), which a process can ask of itself alone."""

_NOTHING_RUNS = "ZXx"
"""The states of a process that has ended (proc(5))."""


class Process(NamedTuple):
    """A process that stood still: the principal without its name, and what it sees.

    ``root`` is an open handle on its root directory and ``mounts`` the text of
    its mountinfo, where these are not Fiat's own; else -1 and empty. ``namespace`` is the identifier of its mount
    namespace, 0 where that is not known. ``numbers`` are those that its user namespace knows, None where it is Fiat's
    own; ``command`` is the name of what it runs.
    """

    principal: Principal
    root: int = -1
    mounts: str = ""
    namespace: int = 0
    numbers: IdMap | None = None
    command: str = ""


class _Found(NamedTuple):
    """What was read at one moment; None for what could not be read."""

    status: dict[str, str]
    users: str | None
    groups: str | None
    user_namespace: str | None
    mount_namespace: str | None
    mounts: str | None
    root: tuple[int, int, int] | None

    def who(self) -> "_Found":
        """All of it but the mounts, which may change at any time."""
        return self._replace(mounts=None)


def process_at(pid: int) -> Process:
    """The process ``pid``; the caller closes its root.

    Raises :class:`UnknownAccount` where there is none, or it has ended, or it
    is never twice the same.
    """
    with _folder(pid) as folder:
        if pid == os.getpid():
            return _itself(_status(folder, pid))
        before = _read(folder, pid)
        for _ in range(_TRIES):
            root = _root_of(folder)
            try:
                found = _read(folder, pid)
                if found.who() == before.who():
                    made = _process(pid, found, root)
                    return made if made.root < 0 else made._replace(namespace=_mount_namespace(folder, found.mounts))
            except BaseException:
                _close(root)
                raise
            _close(root)
            before = found
    raise UnknownAccount(f"pid:{pid}", f"process {pid} changes who it is, or what it sees, all the time: try again")


def umask_of(pid: int) -> int:
    """The umask of the process ``pid`` (proc(5), since Linux 4.7); UnknownAccount where it has none."""
    with _folder(pid) as folder:
        value = _status(folder, pid).get("Umask")
    if value is None:
        raise UnknownAccount(f"pid:{pid}", f"process {pid} has no umask: it has ended, or is a part of the kernel")
    return int(value, 8)


@contextmanager
def _folder(pid: int) -> Iterator[int]:
    try:
        folder = os.open(f"/proc/{pid}", os.O_PATH | os.O_DIRECTORY)
    except OSError as error:
        raise UnknownAccount(f"pid:{pid}", f"no process has the number {pid} ({error.strerror})") from error
    try:
        yield folder
    finally:
        os.close(folder)


def _close(root: int | None) -> None:
    if root is not None:
        os.close(root)


def _read(folder: int, pid: int) -> _Found:
    status = _status(folder, pid)
    if status["State"].split()[0] in _NOTHING_RUNS:
        raise UnknownAccount(f"pid:{pid}", f"process {pid} has ended")
    root = _root_of(folder)
    try:
        where = None if root is None else _identity(root)
    finally:
        _close(root)
    kept = ("Name", "Uid", "Gid", "Groups", "CapInh", "CapPrm", "CapEff", "CapBnd", "CapAmb", "NoNewPrivs", "Seccomp")
    return _Found(
        {name: status[name] for name in kept if name in status},
        _text(folder, "uid_map"),
        _text(folder, "gid_map"),
        _link(folder, "ns/user"),
        _link(folder, "ns/mnt"),
        _text(folder, "mountinfo"),
        where,
    )


def _status(folder: int, pid: int) -> dict[str, str]:
    """The fields of ``/proc/PID/status`` (proc(5))."""
    text = _text(folder, "status")
    if text is None:
        raise UnknownAccount(f"pid:{pid}", f"no process has the number {pid} any more")
    return dict(line.split(":", 1) for line in text.split("\n") if ":" in line)


def _text(folder: int, name: str) -> str | None:
    try:
        fd = os.open(name, os.O_RDONLY, dir_fd=folder)
        with open(fd, "rb") as file:
            return os.fsdecode(file.read())
    except OSError:
        return None


def _link(folder: int, name: str) -> str | None:
    try:
        return os.readlink(name, dir_fd=folder)
    except OSError:
        return None


def _mount_namespace(folder: int, mounts: str | None) -> int:
    """The identifier of the process's mount namespace; 0 where it is not known, or nobody will ask by it."""
    if "idmapped" not in (mounts or ""):
        return 0
    from fiat.host.live.idmaps import identifier_of

    try:
        fd = os.open("ns/mnt", os.O_RDONLY, dir_fd=folder)
    except OSError:
        return 0
    try:
        return identifier_of(fd)
    finally:
        os.close(fd)


def _root_of(folder: int) -> int | None:
    """A handle on the root directory of the process; None where that may not be looked at."""
    try:
        return os.open("root", os.O_PATH | os.O_DIRECTORY, dir_fd=folder)
    except OSError:
        return None


def _identity(fd: int) -> tuple[int, int, int]:
    """Which directory it is, and on which mount."""
    status = os.fstat(fd)
    return status.st_dev, status.st_ino, mount_id(fd)


def _process(pid: int, found: _Found, root: int | None) -> Process:
    """What was found, made sense of; takes ``root`` over, or closes it where it is Fiat's own."""
    with _folder(os.getpid()) as folder:
        own = _read(folder, os.getpid())
    limits = _limits(found, own)
    if found.mount_namespace and found.root:
        sees_the_same = (found.mount_namespace, found.root) == (own.mount_namespace, own.root)
    else:  # an ordinary user may not ask, but may read what it sees at the root: these numbers are no other mount's
        there = _mounted_as_root(found.mounts or "")
        sees_the_same = bool(there) and there == _mounted_as_root(own.mounts or "")
    if sees_the_same or root is None or found.mounts is None:
        _close(root)
        root = None
        if not sees_the_same:
            limits = limits._replace(hidden=(*limits.hidden, "mounts and root directory"))
    else:
        limits = limits._replace(own_mounts=True)
    root_there = int(found.status["Uid"].split()[1]) == limits.root
    principal = _principal(pid, found.status, limits, root=root_there)
    if limits.hidden:
        principal = principal._replace(capabilities=0, exec_capabilities=0)
    numbers = None if limits.users is None else _numbers(found)
    made = Process(principal, numbers=numbers, command=found.status["Name"].strip())
    return made if root is None else made._replace(root=root, mounts=found.mounts or "")


def _mounted_as_root(mounts: str) -> list[str]:
    """The numbers of the mounts on the root directory; none where that lies deeper in what is mounted."""
    lines = [line.split(" ", 5) for line in mounts.split("\n")]
    return [fields[0] for fields in lines if len(fields) > 4 and fields[4] == "/"]


def _itself(status: dict[str, str]) -> Process:
    """This process, which sees what Fiat sees."""
    limits = _bounds(status)
    whole = int(status["CapPrm"], 16) & limits.bounding == limits.bounding
    # root that runs Fiat under SECBIT_NOROOT has no capabilities; without ctypes, Python has not set it since
    may_be_set = not whole or "ctypes" in sys.modules
    root = status["Uid"].split()[1] == "0" and not (may_be_set and _securebits() & _NO_ROOT)
    own = own_numbers()
    if own is not None:  # its powers count for these alone, by the numbers that they have in it
        users, groups = (tuple((first, count) for first, _, count in one.extents) for one in own)
        limits = limits._replace(users=users, groups=groups)
    return Process(_principal(os.getpid(), status, limits, root=root), command=status["Name"].strip())


def _limits(found: _Found, own: _Found) -> Limits:
    """What bounds its powers, and for whose files they count."""
    limits = _bounds(found.status)
    same = found.user_namespace == own.user_namespace if found.user_namespace else None
    if same is None:  # an ordinary user may not ask, but may read which numbers it knows
        same = found.users is not None and (found.users, found.groups) == (own.users, own.groups)
    if same:
        return limits
    if found.users is None or found.groups is None:
        return limits._replace(root=None, hidden=("user namespace",))
    users, groups = _numbers(found)
    return limits._replace(users=_ranges(users), groups=_ranges(groups), root=users.outward(0))


def _numbers(found: _Found) -> IdMap:
    return IdMap(idmap.parse(found.users or ""), idmap.parse(found.groups or ""))


def _bounds(status: dict[str, str]) -> Limits:
    return Limits(
        bounding=int(status["CapBnd"], 16),
        inheritable=int(status["CapInh"], 16),
        no_new_privileges=status.get("NoNewPrivs", "0").strip() == "1",
        filters=status.get("Seccomp", "0").strip() not in ("", "0"),
    )


def _ranges(numbers: NumberMap) -> Ranges:
    """The numbers of this namespace that are known in the other one."""
    return tuple((outside, count) for _, outside, count in numbers.extents)


def _principal(pid: int, status: dict[str, str], limits: Limits, *, root: bool) -> Principal:
    groups = [int(status["Gid"].split()[3]), *map(int, status["Groups"].split())]
    return Principal(
        "process",
        None,
        int(status["Uid"].split()[3]),
        frozenset(groups),
        int(status["CapEff"], 16),
        left_after_exec(int(status["CapPrm"], 16), int(status["CapAmb"], 16), limits, root=root),
        pid,
        limits,
        groups[0],
    )


def _securebits() -> int:
    """The securebits of this very process; of another one they cannot be read."""
    import ctypes  # slow to load

    found: int = ctypes.CDLL(None).prctl(_GET_SECUREBITS, 0, 0, 0, 0)
    return max(found, 0)
