"""Accounts from this host's name service, or from a folder of files."""

import grp
import os
import pwd
import re
import stat
from collections.abc import Callable
from contextlib import suppress
from functools import cached_property
from typing import Any, TypeVar

from fiat.core.errors import SnapshotError
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.text import quoted
from fiat.core.words.accountfiles import first_person, parse_group, parse_passwd
from fiat.host.textfile import beginning_of, bytes_of

Found = TypeVar("Found")


def from_folder(folder: str) -> Accounts:
    """The accounts in the files ``passwd`` and ``group`` of ``folder``.

    Raises :class:`SnapshotError` where one is missing or is no such file.
    """
    users = parse_passwd(_read(folder, "passwd"), quoted(os.path.join(folder, "passwd")))
    groups = parse_group(_read(folder, "group"), quoted(os.path.join(folder, "group")))
    lowest = first_person(_text_of(os.path.join(folder, "login.defs")))
    return Accounts(users, groups, f"the accounts in {quoted(folder)}", lowest)


def _read(folder: str, name: str) -> str:
    path = os.path.join(folder, name)
    try:
        return bytes_of(path, _LARGEST).decode("utf-8", "surrogateescape")
    except OSError as error:
        raise SnapshotError(
            f"cannot read {quoted(path)}: {error.strerror or error}; "
            "--accounts takes a folder that holds the files passwd and group"
        ) from error


_LARGEST = 256 * 1024 * 1024
"""Bytes of an accounts file: some millions of accounts."""


class NameService(Accounts):
    """This host's accounts, as getpwent(3) and getgrent(3) list them.

    The name service may know accounts that it does not list (a directory
    server with enumeration off): those are found when they are asked for by
    name or number.
    """

    def __init__(self) -> None:
        for path in _READ_FIRST:  # the C library would wait for ever on a pipe
            with suppress(FileNotFoundError, PermissionError):
                if not stat.S_ISREG(os.stat(path).st_mode):
                    raise SnapshotError(f"cannot read this host's accounts: {quoted(path)} is no regular file")
        users = [_user(entry) for entry in pwd.getpwall()]
        groups = [_group(entry) for entry in grp.getgrall()]
        super().__init__(users, groups, "this host's accounts")
        # what was asked beyond the lists, and what came of it: asking again takes as long each time
        self._asked: dict[tuple[str, str | int], Any] = {}

    @property
    def first_person(self) -> int:
        """The lowest number of a person's account, by login.defs(5)."""
        return self._lowest

    @cached_property
    def _lowest(self) -> int:
        return first_person(_text_of(LOGIN_DEFS))

    @cached_property
    def _listed_names(self) -> frozenset[str]:
        return frozenset(user.name for user in self.users)

    def _ask(self, what: str, key: str | int, question: Callable[[], Found]) -> Found | None:
        """What the name service answers, asked once; None where it knows of none."""
        if (what, key) not in self._asked:
            try:
                self._asked[what, key] = question()
            except (KeyError, ValueError, OverflowError):  # not there, or no name or number it could be
                self._asked[what, key] = None
        found: Found | None = self._asked[what, key]
        return found

    def user_named(self, name: str) -> User | None:
        """The user called ``name``, listed or not."""
        return super().user_named(name) or self._ask("user_named", name, lambda: _user(pwd.getpwnam(name)))

    def user_numbered(self, uid: int) -> User | None:
        """The user with number ``uid``, listed or not."""
        return super().user_numbered(uid) or self._ask("user_numbered", uid, lambda: _user(pwd.getpwuid(uid)))

    def group_named(self, name: str) -> Group | None:
        """The group called ``name``, listed or not."""
        return super().group_named(name) or self._ask("group_named", name, lambda: _group(grp.getgrnam(name)))

    def group_numbered(self, gid: int) -> Group | None:
        """The group with number ``gid``, listed or not."""
        return super().group_numbered(gid) or self._ask("group_numbered", gid, lambda: _group(grp.getgrgid(gid)))

    def gids_of(self, user: User) -> tuple[int, ...]:
        """Every group number of ``user``, as initgroups(3) gives them.

        Where the groups come from files alone, the lists say all of it. Any
        other source may know memberships that it does not list: then the name
        service is asked for each user.
        """
        if user.name in self._listed_names and self.lists_all_groups:
            return super().gids_of(user)
        known = self._asked.get(("gids", user.name))
        if known is None:
            known = self._asked["gids", user.name] = tuple(dict.fromkeys(os.getgrouplist(user.name, user.gid)))
        found: tuple[int, ...] = known
        return found

    @cached_property
    def lists_all_groups(self) -> bool:
        """Whether the memberships that it lists are all there are: they come from files alone."""
        return sources_of_groups(_text_of(NAME_SERVICE_SWITCH)) == {"files"}


LOGIN_DEFS = "/etc/login.defs"
NAME_SERVICE_SWITCH = "/etc/nsswitch.conf"
_READ_FIRST = (NAME_SERVICE_SWITCH, "/etc/passwd", "/etc/group")


def sources_of_groups(text: str) -> set[str]:
    """Where memberships come from, by the text of nsswitch.conf(5): its ``initgroups``, and else its ``group``."""
    lines: dict[str, set[str]] = {}
    for line in text.split("\n"):
        database, colon, rest = line.partition("#")[0].partition(":")
        if colon:  # what stands in brackets says what is done, and is no source
            sources = re.sub(r"\[[^]]*\]", " ", rest) if "[" in rest else rest
            lines.setdefault(database.strip(), set(sources.split()))
    return lines.get("initgroups") or lines.get("group") or {"files"}


def listed_in_files(name: str) -> set[int]:
    """The groups, by number, that /etc/group lists the user called ``name`` in."""
    lines = (line.split(":") for line in _text_of("/etc/group").split("\n"))
    return {
        int(fields[2]) for fields in lines if len(fields) > 3 and fields[2].isdecimal() and name in fields[3].split(",")
    }


def _text_of(path: str) -> str:
    try:
        return beginning_of(path, _LARGEST).decode("utf-8", "surrogateescape")
    except OSError:
        return ""


def _user(entry: pwd.struct_passwd) -> User:
    return User(entry.pw_name, entry.pw_uid, entry.pw_gid, entry.pw_gecos, entry.pw_dir, entry.pw_shell)


def _group(entry: grp.struct_group) -> Group:
    return Group(entry.gr_name, entry.gr_gid, tuple(entry.gr_mem))
