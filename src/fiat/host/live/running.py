"""Running processes with the groups that they have: these can be others than those of the account by now."""

import os
from collections.abc import Iterable
from contextlib import suppress
from typing import NamedTuple


class OwnedProcess(NamedTuple):
    """A running process: its number, its program's name, its effective user, and the groups that it is in by number."""

    pid: int
    program: str
    uid: int
    gids: frozenset[int]


def processes() -> Iterable[OwnedProcess]:
    """The running processes that belong to this user namespace (proc(5), credentials(7)), by number.

    One that ends meanwhile is left out.
    """
    own = _user_namespace("self")
    for name in sorted((name for name in os.listdir("/proc") if name.isdecimal()), key=int):
        with suppress(OSError, ValueError, KeyError, IndexError):
            fields = _status(name)
            # the kernel's own are nobody's, and elsewhere numbers mean others
            if fields["State"].split()[0] in "ZXx" or "VmSize" not in fields:
                continue
            if _user_namespace(name) not in (own, None):
                continue
            gids = {int(fields["Gid"].split()[1]), *map(int, fields["Groups"].split())}
            yield OwnedProcess(int(name), fields["Name"], int(fields["Uid"].split()[1]), frozenset(gids))


def _status(name: str) -> dict[str, str]:
    with open(f"/proc/{name}/status", "rb") as file:
        lines = file.read(65_536).decode("utf-8", "surrogateescape").split("\n")
        pairs = (line.partition(":") for line in lines)
        return {key: value.strip() for key, _, value in pairs}


def _user_namespace(name: str) -> str | None:
    try:
        return os.readlink(f"/proc/{name}/ns/user")
    except OSError:
        return None
