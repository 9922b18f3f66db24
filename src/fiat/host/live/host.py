"""The real host, through the kernel's interfaces (proc(5))."""

from __future__ import annotations

import os
import time
from functools import cached_property, partial
from typing import TYPE_CHECKING

from fiat.core.errors import HostError, UnknownAccount
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Settings
from fiat.core.model.login import Logins
from fiat.core.model.principals import Principal
from fiat.engine.compiled import compiled
from fiat.host.accounts.nameservice import NameService
from fiat.host.live.namespace import own_numbers

if TYPE_CHECKING:
    from collections.abc import Callable

    from fiat.engine.pieces import Engine
    from fiat.host.live.compiledchanger import CompiledChanger
    from fiat.host.live.postures import Reader
    from fiat.host.live.treenode import LiveTreeNode

# Of the names in /sys/kernel/security/lsm, those that decide about files beyond modes and lists
_REFUSING_MODULES = frozenset({"selinux", "apparmor", "smack", "tomoyo", "landlock", "bpf"})


_TICK = 20_000_000
"""Nanoseconds; the kernel's coarse clock, which stamps changes, ticks at least every 10 milliseconds."""


class LiveHost:
    """This host, asked through the kernel's interfaces; ``accounts`` may come from elsewhere.

    ``accounts_timeout`` is how many seconds its sources of accounts may take together.
    """

    _together: CompiledChanger | None = None

    def __init__(self, accounts: Accounts | None = None, accounts_timeout: float | None = None) -> None:
        self.name = os.uname().nodename
        self._accounts = accounts
        self._accounts_timeout = accounts_timeout
        self._seen_by: dict[int, LiveHost] = {}
        self._here = _current_directory()
        self.engine: Callable[[], Engine] | None = None
        """Gives whoever reads whole trees, where this machine is not to do it alone."""

    @cached_property
    def accounts(self) -> Accounts:
        """The accounts given, or those of the name service, read when first asked for."""
        if self._accounts is not None:
            return self._accounts
        return NameService() if self._accounts_timeout is None else NameService(self._accounts_timeout)

    @cached_property
    def _reader(self) -> Reader:
        """What reads the file tree: not every command does."""
        import resource

        if not os.path.isdir("/proc/self/fd"):
            raise HostError("/proc is not mounted here, and every object is looked at through /proc/self/fd (proc(5))")
        from fiat.host.live.kernel import Kernel
        from fiat.host.live.mounts import mounts_now
        from fiat.host.live.postures import PostureReader, Reader

        # a tree is walked with one handle open for each level
        most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))
        return Reader(Kernel(self.open_root, mounts_now), PostureReader(), self.engine)

    @cached_property
    def settings(self) -> Settings:
        """The umask of this process and the settings under ``/proc/sys/fs``."""
        return Settings(
            umask=_own_umask(),
            protected_symlinks=_level("protected_symlinks") > 0,
            protected_regular=_level("protected_regular"),
            protected_fifos=_level("protected_fifos"),
            security_modules=_security_modules(),
            user_namespace=own_numbers() is not None,
        )

    def root(self) -> LiveTreeNode:
        """Open the root directory of this process."""
        from fiat.host.live.treenode import LiveTreeNode

        return LiveTreeNode(self._reader, self.open_root(), "/")

    def together(self) -> CompiledChanger | None:
        """What changes many objects in one go, where there is a compiled one."""
        native = compiled()
        if self._together is None and native is not None:
            from fiat.host.live.compiledchanger import CompiledChanger

            self._together = CompiledChanger(native, self._reader, self.open_root)
        return self._together if native is not None else None

    def open_root(self) -> int:
        """A new handle on the root directory."""
        return os.open("/", os.O_PATH | os.O_DIRECTORY)

    def cwd(self) -> str:
        """The directory that was the current one at the start: one that may not be entered is left for good."""
        if isinstance(self._here, OSError):
            raise self._here
        return self._here

    def actor(self) -> Principal:
        """This process as a principal: its numbers, groups and capabilities."""
        return self.process(os.getpid())

    def wait_for_clock(self, changed: int) -> None:
        """Return when what changes from now on is stamped later than ``changed``."""
        if time.time_ns() - changed < _TICK:
            time.sleep(_TICK / 1e9)

    def process(self, pid: int) -> Principal:
        """The process ``pid``: file system ids, all groups, effective capabilities, and what bounds these (proc(5))."""
        from fiat.host.live import processes

        found = processes.process_at(pid)
        if found.root >= 0:
            self._seen_by[pid] = SeenByProcess(self, found.root, found.mounts, found.namespace)
        account = self.accounts.user_numbered(found.principal.uid or 0)
        return found.principal._replace(name=account.name if account else None)

    def seen_by(self, who: Principal) -> LiveHost:
        """This host with the mounts and the root directory of the process ``who``, where it has others."""
        return self._seen_by.get(who.pid, self) if who.pid is not None else self

    def view_of(self, pid: int) -> LiveHost:
        """This host with the mounts, the root directory and the accounts of the process ``pid``."""
        from fiat.host.live.containers import accounts_seen_by
        from fiat.host.live.processes import process_at

        process = process_at(pid)
        root, mounts = process.root, process.mounts
        if root < 0:  # it sees what Fiat sees
            with open("/proc/self/mountinfo", "rb") as file:
                root, mounts = self.open_root(), os.fsdecode(file.read())
        seen = SeenByProcess(self, root, mounts, process.namespace)
        return seen.with_accounts(accounts_seen_by(process, seen, self.accounts))

    def logins(self) -> Logins:
        """What the programs and files of a login on this host give (:mod:`fiat.host.logins`)."""
        from fiat.host.logins.login import LiveLogins

        return LiveLogins(self.accounts)

    def process_umask(self, pid: int) -> int:
        """The umask of the process ``pid`` (proc(5), since Linux 4.7)."""
        from fiat.host.live import processes

        return processes.umask_of(pid)


class SeenByProcess(LiveHost):
    """This host with the mounts and the root directory of one process.

    It is walked from a handle on that root, name by name: no path is ever
    joined to ``/proc/PID/root``, from where an absolute link would lead into
    Fiat's own tree.
    """

    def __init__(
        self, host: LiveHost, root: int, mounts: str, namespace: int = 0, accounts: Accounts | None = None
    ) -> None:
        """Takes the handle ``root`` over; ``accounts`` are by default those of the host."""
        self.name = host.name
        self._accounts = host.accounts if accounts is None else accounts
        self._namespace = namespace
        self._root = root
        self._mounts = mounts
        self._handlers = host._reader.kernel.handlers
        self._seen_by = {}
        self._here = host._here

    @cached_property
    def _reader(self) -> Reader:
        from fiat.host.live.kernel import Kernel
        from fiat.host.live.mounts import read_mounts
        from fiat.host.live.postures import PostureReader, Reader

        mounts = partial(read_mounts, self._mounts)
        kernel = Kernel(self.open_root, mounts, self._handlers, self._namespace, foreign=True)
        return Reader(kernel, PostureReader())

    def with_accounts(self, accounts: Accounts) -> HostOfContainer:
        """The same, with other accounts."""
        return HostOfContainer(self, os.dup(self._root), self._mounts, self._namespace, accounts)

    def open_root(self) -> int:
        """A new handle on the root directory of the process."""
        return os.open(".", os.O_PATH | os.O_DIRECTORY, dir_fd=self._root)

    def __del__(self) -> None:
        """Let go of that directory."""
        os.close(self._root)


class HostOfContainer(SeenByProcess):
    """This host as the people of a container see it: of processes nothing is said."""

    def process(self, pid: int) -> Principal:
        """Always raises: a process may be in another container, or in none."""
        raise UnknownAccount(f"pid:{pid}", "as a container sees the host, its people are asked about, not processes")

    def actor(self) -> Principal:
        """This process, which is none of the container's."""
        return super().process(os.getpid())


def _current_directory() -> str | OSError:
    """The path of the current directory; the error where it has been removed."""
    try:
        return os.getcwd()
    except OSError as error:
        return error


def _own_umask() -> int:
    """The umask of this process (proc(5)); asking the kernel by umask(2) would change it for a moment."""
    text = _line("/proc/self/status")
    found = next((line for line in text.split("\n") if line.startswith("Umask:")), "Umask: 0022")
    return int(found.split()[1], 8)


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
