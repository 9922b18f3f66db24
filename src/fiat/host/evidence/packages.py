"""Which paths belong to packages, by the databases that distributions keep in plain files under /var/lib and /lib."""

import os
import re
from collections.abc import Iterable, Iterator
from contextlib import suppress
from functools import cached_property

from fiat.host.textfile import bytes_of

_LARGEST = 256 * 1024 * 1024
"""Bytes of one of the files of a database."""


class Packages:
    """The paths that packages own, and those whose owner and mode the administrator recorded with them."""

    def __init__(self, root: str = "") -> None:
        self._root = root

    def owned(self, paths: Iterable[str]) -> frozenset[str] | None:
        """Those of ``paths`` that a package owns, or that are recorded; None where there is no such database."""
        if not self._there:
            return None
        return frozenset(path for path in paths if _is_among(os.fsencode(path), self._paths))

    @cached_property
    def _there(self) -> bool:
        """Whether there is a database that names anything: what can be told by the first of its files."""
        return any(map(any, self._named()))

    @cached_property
    def _paths(self) -> frozenset[bytes]:
        return frozenset().union(*self._named())

    def _named(self) -> Iterator[Iterable[bytes]]:
        """What is named, file by file."""
        yield from self._lists()
        yield self._recorded()
        yield self._installed()

    def _lists(self) -> Iterator[Iterable[bytes]]:
        """A file with a list of paths for each package."""
        folder = f"{self._root}/var/lib/dpkg/info"
        with suppress(OSError), os.scandir(folder) as entries:
            for entry in entries:
                if entry.name.endswith((".list", ".conffiles")):
                    with suppress(OSError):
                        yield bytes_of(entry.path, _LARGEST).split(b"\n")

    def _recorded(self) -> Iterator[bytes]:
        """Owner, group, mode and path, where these are other than in the package."""
        with suppress(OSError):
            for line in bytes_of(f"{self._root}/var/lib/dpkg/statoverride", _LARGEST).split(b"\n"):
                parts = line.split(b" ", 3)
                if len(parts) == 4:
                    yield parts[3]

    def _installed(self) -> Iterator[bytes]:
        """One file for all packages: F: lines name folders, R: lines the names in them."""
        with suppress(OSError):
            folder = b""
            for line in bytes_of(f"{self._root}/lib/apk/db/installed", _LARGEST).split(b"\n"):
                if line.startswith(b"F:"):
                    folder = b"/" + line[2:]
                elif line.startswith(b"R:"):
                    yield folder + b"/" + line[2:]


_MERGED = re.compile(rb"^/usr(?=/(?:bin|sbin|lib|lib32|lib64|libx32)/)")


def _is_among(path: bytes, known: frozenset[bytes]) -> bool:
    """Whether it is known: what lies under /usr now was listed without it before both were merged."""
    return path in known or _MERGED.sub(b"", path) in known or b"/usr" + path in known
