"""Where on this host the umask is set: login.defs(5), shells' start-up files, PAM, service units.

Files are searched for the words that set a umask; conditions around such a
line are not evaluated, so a line found may not be reached.
"""

import glob
import os
import re
from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.model import umask
from fiat.host.textfile import beginning_of

_SHELL = re.compile(
    r"^\s*(?:[^#]*[;&|]\s*)?(?:(?:then|else|do)\s+)?umask\s+(?:-S\s+)?([0-7]{1,4}|[ugoa]*[-+=][ugoarwxX,=+-]*)"
)
_LOGIN_DEFS = re.compile(r"^\s*UMASK\s+([0-7]{1,4})")
_PAM = re.compile(r"^\s*[^#]*pam_umask\.so.*?\bumask=([0-7]{1,4})")
_UNIT = re.compile(r"^\s*UMask\s*=\s*([0-7]{1,4})")

_PLACES = (
    (_LOGIN_DEFS, "/etc/login.defs"),
    (_PAM, "/etc/pam.d/*"),
    (_SHELL, "/etc/profile"),
    (_SHELL, "/etc/profile.d/*.sh"),
    (_SHELL, "/etc/bash.bashrc"),
    (_SHELL, "/etc/bashrc"),
    (_SHELL, "/etc/zsh/z*"),
    (_SHELL, "/etc/csh.*"),
    (_SHELL, "~/.profile"),
    (_SHELL, "~/.bash_profile"),
    (_SHELL, "~/.bashrc"),
    (_SHELL, "~/.z*"),
    (_UNIT, "/etc/systemd/system/*.service"),
    (_UNIT, "/etc/systemd/system/*.service.d/*.conf"),
)


_LARGEST, _LONGEST = 1 << 20, 1000
"""Bytes of a file, and characters of a line, that are looked at."""


class UmaskSetting(NamedTuple):
    """One line that sets a umask. ``umask`` is None where its clauses depend on what held before."""

    path: str
    line: int
    text: str
    umask: int | None


class Search(NamedTuple):
    """What was found, the files that were read, and those that could not be."""

    settings: list[UmaskSetting]
    read: list[str]
    unread: list[tuple[str, int]]


def search(home: str | None = None, *, services: bool = True) -> Search:
    """Search the usual places, in the order in which they come to count at login.

    ``home`` is whose start-up files count, by default those of the user who runs this. Without
    ``services``, the units of services are left out.
    """
    found = Search([], [], [])
    home = os.path.expanduser("~") if home is None else home
    for pattern, place in _PLACES:
        if pattern is not _UNIT or services:
            where = f"{glob.escape(home)}{place[1:]}" if place.startswith("~") else place
            for path in sorted(glob.glob(where)) if home or not place.startswith("~") else ():
                _search_file(path, pattern, found)
    return found


def _search_file(path: str, pattern: re.Pattern[str], found: Search) -> None:
    try:
        if not os.path.isfile(path):
            return
        for number, line in enumerate(os.fsdecode(beginning_of(path, _LARGEST)).split("\n"), 1):
            match = pattern.match(line[:_LONGEST])
            if match:
                found.settings.append(UmaskSetting(path, number, line.strip(), _value(match[1])))
    except OSError as error:
        found.unread.append((path, error.errno or 0))
    else:
        found.read.append(path)


def _value(word: str) -> int | None:
    try:
        absolute = word.isdigit() or all(
            "=" in clause and "u" not in clause.split("=")[1] for clause in word.split(",")
        )
        return umask.parse(word) if absolute else None
    except NotationError:
        return None
