"""The evidence of this host. What was looked into once is remembered."""

import errno
import os
import stat
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property

from fiat.core.audit.evidence import PATH_OF_ROOT, StartedFile, umask_of
from fiat.core.model.host import Host
from fiat.core.rules import secretkinds
from fiat.core.tree.walk import Handles, Trouble
from fiat.engine.processes import Beside
from fiat.host.evidence.libraries import Libraries
from fiat.host.evidence.packages import Packages
from fiat.host.evidence.sources import everything_started
from fiat.host.live.node import LiveNode

_ACCOUNTS = 2_000
"""Of so many accounts it is asked what a login gives."""

_OF_LOGS = 1 << 20
"""Bytes of a log that are looked at."""


class LiveEvidence:
    """What this host says beside its file tree."""

    def __init__(self, host: Host) -> None:
        self._host = host
        self._packages = Packages()
        self._libraries = Libraries()
        self._kinds: dict[str, str | None] = {}
        self._unread: dict[str, Trouble] = {}
        self._begun: Beside[tuple[StartedFile, ...]] | None = None

    def packaged(self, paths: Sequence[str]) -> frozenset[str] | None:
        """Those that a package owns."""
        return self._packages.owned(paths)

    def secrets(self, paths: Sequence[str]) -> Mapping[str, str] | None:
        """The kinds of secrets, by the first bytes of each file."""
        new = [path for path in paths if path not in self._kinds]
        self._kinds |= self._each(new, secretkinds.START, secretkinds.kind_of, secretkinds.goes_on)
        return {path: kind for path in paths if (kind := self._kinds[path]) is not None}

    def started(self) -> tuple[StartedFile, ...] | None:
        """What is started without anybody asking: see :mod:`fiat.host.evidence.sources`."""
        return self._started

    @cached_property
    def _started(self) -> tuple[StartedFile, ...]:
        return self._look() if self._begun is None else self._begun()

    def _look(self) -> tuple[StartedFile, ...]:
        return everything_started(self._host.accounts, self._packages, self._libraries)

    def __enter__(self) -> "LiveEvidence":
        """Have what is started looked for by another process, while this one does something else."""
        _ = self._host.accounts.users, self._host.accounts.groups  # both want them: a directory server is asked once
        self._begun = Beside(self._look)
        return self

    def __exit__(self, *_: object) -> None:
        """Leave what was not asked for by then; it is looked for when it is."""
        if self._begun is not None:
            self._begun.__exit__()
            self._begun = None

    def loaded(self, path: str) -> tuple[str, ...] | None:
        """The libraries that a program loads as it starts, by what it says of itself."""
        return self._libraries.of(path)

    def login(self) -> Mapping[str, str] | None:
        """What logins get on this host, by words: see :class:`fiat.core.audit.evidence.Evidence`."""
        return self._logins

    @cached_property
    def _logins(self) -> Mapping[str, str]:
        return _Logins(self._host)

    def logged(self, paths: Sequence[str]) -> Mapping[str, str] | None:
        """Logs with lines that look like credentials."""

        def kind(start: bytes, path: str) -> str | None:
            return secretkinds.WORDS if secretkinds.credentials_in(start) else None

        return {path: found for path, found in self._each(paths, _OF_LOGS, kind).items() if found is not None}

    def unread(self) -> Sequence[Trouble]:
        """Files that could not be opened: somebody may hold a lease on what they hide."""
        return list(self._unread.values())

    def _each(
        self,
        paths: Sequence[str],
        count: int,
        kind: Callable[[bytes, str], str | None],
        more: Callable[[bytes], bool] = lambda _: False,
    ) -> dict[str, str | None]:
        """What ``kind`` says of the first bytes of each regular file; None where it cannot be read.

        ``more`` tells by the first ``count`` of them whether those after them are to be read, too.
        """
        found: dict[str, str | None] = dict.fromkeys(paths)
        handles = Handles(self._host)
        try:
            for path in paths:
                try:
                    node = handles.open(path)
                    try:
                        assert isinstance(node, LiveNode)
                        found[path] = kind(_start(node.fd, count, more), path)
                    finally:
                        node.close()
                except OSError as error:
                    if error.errno != errno.ENOENT:
                        self._unread[path] = Trouble(path, error.errno or errno.EIO)
        finally:
            handles.close()
        return found


class _Logins(Mapping[str, str]):
    """What logins get, each worked out when it is asked for."""

    def __init__(self, host: Host) -> None:
        self._host = host
        accounts = host.accounts
        people = [one for one in accounts.users[:_ACCOUNTS] if one.uid and not accounts.is_service(one)]
        self._people = {umask_of(one.name): one for one in people}
        self._known: dict[str, str] = {}
        self._logins = host.logins()

    def __getitem__(self, word: str) -> str:
        if word not in self._known:
            root = self._host.accounts.user_numbered(0)
            if word == PATH_OF_ROOT and root is not None:
                self._known[word] = ":".join(self._logins.of(root).path)
            else:
                self._known[word] = f"{self._logins.of(self._people[word]).mask:04o}"
        return self._known[word]

    def __iter__(self) -> Iterator[str]:
        yield PATH_OF_ROOT
        yield from self._people

    def __len__(self) -> int:
        return len(self._people) + 1


def _start(held: int, count: int, more: Callable[[bytes], bool]) -> bytes:
    """The first bytes of the regular file that is held by a handle; nothing of anything else, which is not opened."""
    if not stat.S_ISREG(os.fstat(held).st_mode):
        return b""
    fd = os.open(f"/proc/self/fd/{held}", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        start = os.read(fd, count)
        return start + os.read(fd, secretkinds.LARGEST) if len(start) == count and more(start) else start
    finally:
        os.close(fd)
