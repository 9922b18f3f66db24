"""What the readers of this room share: the text of a file, the files of a pattern, and a user's number by name."""

import glob
import os
import stat
from collections.abc import Iterable, Iterator
from contextlib import suppress

from fiat.core.model.accounts import Accounts
from fiat.host.textfile import beginning_of

_LARGEST = 1 << 20
"""Bytes of a file that are looked at."""

_DIGITS = 10
"""So many digits a number of 32 bits has at most."""


def text_of(path: str) -> str:
    """What a file holds; nothing where it cannot be read, or is far too long."""
    with suppress(OSError):
        return os.fsdecode(beginning_of(path, _LARGEST))
    return ""


def lines_of(path: str) -> Iterator[str]:
    """The lines of a file that are no comments, without spaces around them; one that ends in a backslash goes on."""
    for line in text_of(path).replace("\\\n", " ").split("\n"):
        stripped = line.strip()
        if stripped and not stripped.startswith("#"):
            yield stripped


def files_like(*patterns: str) -> Iterator[str]:
    """The regular files of each pattern, in the order of their names; symlinks count as what they lead to, and those
    that lead nowhere as what may be made there."""
    for pattern in patterns:
        yield from (path for path in sorted(glob.glob(pattern)) if os.path.isfile(path) or is_dangling(path))


def is_dangling(path: str) -> bool:
    """Whether a symlink leads nowhere yet."""
    return os.path.islink(path) and not os.path.exists(path)


def is_roots_alone(path: str) -> bool:
    """Whether only root may write to it: then nothing but its folder, which is named by itself, can replace it."""
    try:
        found = os.lstat(path)
    except OSError:
        return False
    return stat.S_ISREG(found.st_mode) and found.st_uid == 0 and not found.st_mode & 0o022


def is_open_to_others(path: str) -> bool:
    """Whether a file that a program insists on being root's alone belongs to, or may be written by, somebody else; or
    has gone."""
    try:
        found = os.lstat(path) if is_dangling(path) else os.stat(path)
    except OSError:
        return True
    return found.st_uid != 0 or bool(found.st_mode & 0o022)


def first_of_a_name(folders: Iterable[str], suffix: str) -> Iterator[str]:
    """The files in ``folders`` whose names end so, by name; of one name the first counts, and a link to /dev/null
    or an empty file takes those after it away, as systemd.unit(5), udev(7) and modprobe.d(5) have it."""
    found: dict[str, str] = {}
    for folder in folders:
        for path in sorted(glob.glob(f"{glob.escape(folder)}/*{suffix}")):
            found.setdefault(os.path.basename(path), path)
    for name in sorted(found):
        if os.path.isfile(found[name]) or is_dangling(found[name]):
            yield found[name]


_DEEP = 64
"""With more names a path is not looked up name by name."""


_LINKS = 8
"""After so many links, one leading to the other, the rest is looked up at once: they may go round for ever."""


class RealPaths:
    """Paths without symlinks, each directory looked up once."""

    def __init__(self) -> None:
        self._folders: dict[str, str] = {}

    def of(self, path: str, links: int = 0) -> str:
        """As realpath(3) has it, whether the end is there or not; after so many ``links``."""
        folder, name = os.path.split(path)
        if not folder or name in ("", ".", "..") or path.count("/") > _DEEP:
            return os.path.realpath(path)
        if folder not in self._folders:
            self._folders[folder] = self.of(folder)
        whole = os.path.join(self._folders[folder], name)
        try:
            target = os.readlink(whole)
        except (OSError, ValueError):
            return whole
        if links == _LINKS or ".." in target.split("/"):
            return os.path.realpath(whole)
        return self.of(os.path.join(self._folders[folder], target), links + 1)


class Ends:
    """Where paths lead, each directory on the way looked up once."""

    def __init__(self, real: RealPaths) -> None:
        self._real = real
        self._folders: dict[str, tuple[str, bool]] = {}

    def of(self, path: str) -> str:
        """What is there once symlinks are followed, or else the nearest directory that lacks it."""
        folder, name = os.path.split(path)
        if folder not in self._folders:
            self._folders[folder] = self._nearest(folder), os.path.isdir(folder)
        known, there = self._folders[folder]
        if not there:
            return known
        whole = f"{known.rstrip('/')}/{name}"
        if os.path.islink(whole):
            return self._nearest(path)
        return whole if os.path.lexists(whole) else known

    def _nearest(self, path: str) -> str:
        found = self._real.of(path)
        while not os.path.lexists(found):
            found = os.path.dirname(found)
        return found


def number_of(word: str, accounts: Accounts) -> int | None:
    """The number of a user, by name or as it stands; None where there is none of that name."""
    account = accounts.user_named(word)
    if account is not None:
        return account.uid
    return int(word) if word.isascii() and word.isdigit() and len(word) <= _DIGITS else None
