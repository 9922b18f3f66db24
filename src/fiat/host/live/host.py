"""The real host, through the kernel's interfaces (proc(5))."""

import os
import resource
import time
from functools import cached_property

from fiat.core.errors import UnknownAccount
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Settings
from fiat.core.model.principals import Principal
from fiat.core.rules.programs import left_after_exec
from fiat.host.live.accounts import NameService
from fiat.host.live.kernel import Kernel
from fiat.host.live.postures import Postures, Reader
from fiat.host.live.treenode import TreeNode

# Of the names in /sys/kernel/security/lsm, those that decide about files beyond modes and lists
_REFUSING_MODULES = frozenset({"selinux", "apparmor", "smack", "tomoyo", "landlock", "bpf"})


_TICK = 20_000_000
"""Nanoseconds; the kernel's coarse clock, which stamps changes, ticks at least every 10 milliseconds."""


class LiveHost:
    """This host."""

    def __init__(self, accounts: Accounts | None = None) -> None:
        self.name = os.uname().nodename
        # a tree is walked with one handle open for each level
        most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))
        self._accounts = accounts
        self._reader = Reader(Kernel(), Postures())

    @cached_property
    def accounts(self) -> Accounts:
        """The accounts given, or those of the name service, read when first asked for."""
        return self._accounts or NameService()

    @cached_property
    def settings(self) -> Settings:
        """The umask of this process and the settings under ``/proc/sys/fs``."""
        return Settings(
            umask=self.process_umask(os.getpid()),
            protected_symlinks=_level("protected_symlinks") > 0,
            protected_regular=_level("protected_regular"),
            protected_fifos=_level("protected_fifos"),
            security_modules=_security_modules(),
            user_namespace=_line("/proc/self/uid_map").split() not in ([], ["0", "0", "4294967295"]),
        )

    def root(self) -> TreeNode:
        """Open ``/``."""
        return TreeNode(self._reader, os.open("/", os.O_PATH | os.O_DIRECTORY), "/")

    def here(self) -> str:
        """The current directory."""
        return os.getcwd()

    def actor(self) -> Principal:
        """This process."""
        return self.process(os.getpid())

    def wait_for_clock(self, changed: int) -> None:
        """Return when what changes from now on is stamped later than ``changed``."""
        if time.time_ns() - changed < _TICK:
            time.sleep(_TICK / 1e9)

    def process(self, pid: int) -> Principal:
        """The process ``pid``: file system ids, all groups, effective capabilities (proc(5))."""
        fields = _status_of(pid)
        uid = int(fields["Uid"].split()[3])
        gids = [int(fields["Gid"].split()[3]), *map(int, fields["Groups"].split())]
        account = self.accounts.user_numbered(uid)
        name = account.name if account else None
        namespace = _foreign_namespace(pid)
        # capabilities of another user namespace say nothing about files of this one (user_namespaces(7))
        powers = left = 0
        if not namespace:
            powers = int(fields["CapEff"], 16)
            left = left_after_exec(
                root="0" in fields["Uid"].split()[:2],
                inheritable=int(fields["CapInh"], 16),
                bounding=int(fields["CapBnd"], 16),
                ambient=int(fields["CapAmb"], 16),
            )
        return Principal("process", name, uid, frozenset(gids), powers, left, pid, namespace)

    def process_umask(self, pid: int) -> int:
        """The umask of the process ``pid`` (proc(5), since Linux 4.7)."""
        value = _status_of(pid).get("Umask")
        if value is None:
            raise UnknownAccount(f"pid:{pid}", f"process {pid} has no umask: it has ended, or is a part of the kernel")
        return int(value, 8)


def _foreign_namespace(pid: int) -> str:
    """The user namespace of ``pid`` where that is another than this process's; else empty."""
    try:
        theirs = os.readlink(f"/proc/{pid}/ns/user")
    except OSError:
        return ""  # an ordinary user may not ask; the ids are still those the kernel shows here
    return "" if theirs == os.readlink("/proc/self/ns/user") else theirs


def _status_of(pid: int) -> dict[str, str]:
    """The fields of ``/proc/PID/status`` (proc(5))."""
    try:
        with open(f"/proc/{pid}/status", encoding="utf-8", errors="surrogateescape") as file:
            return dict(line.rstrip("\n").split(":", 1) for line in file if ":" in line)
    except OSError as error:
        raise UnknownAccount(f"pid:{pid}", f"no process has the number {pid} ({error.strerror})") from error


def _security_modules() -> tuple[str, ...]:
    """The active modules that may refuse more than modes and lists do.

    Where securityfs is not mounted, a context of this process still shows
    that there is one (proc(5), ``/proc/PID/attr/current``).
    """
    listed = _line("/sys/kernel/security/lsm")
    if listed:
        return tuple(name for name in listed.split(",") if name in _REFUSING_MODULES)
    context = _line("/proc/self/attr/current").rstrip("\0")
    return (f"unnamed, this process runs as {context}",) if context else ()


def _level(name: str) -> int:
    return int(_line(f"/proc/sys/fs/{name}") or "0")


def _line(path: str) -> str:
    try:
        with open(path, encoding="utf-8") as file:
            return file.read().strip()
    except OSError:
        return ""
