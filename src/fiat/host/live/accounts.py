"""Accounts from this host's name service, or from a folder of files."""

import grp
import os
import pwd
from collections.abc import Callable
from functools import cached_property
from typing import Any, TypeVar

from fiat.core.errors import SnapshotError
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.text import quoted
from fiat.core.words.accountfiles import parse_group, parse_passwd

Found = TypeVar("Found")


def from_folder(folder: str) -> Accounts:
    """The accounts in the files ``passwd`` and ``group`` of ``folder``.

    Raises :class:`SnapshotError` where one is missing or is no such file.
    """
    users = parse_passwd(_read(folder, "passwd"), f"{quoted(folder)}/passwd")
    groups = parse_group(_read(folder, "group"), f"{quoted(folder)}/group")
    return Accounts(users, groups, f"the accounts in {quoted(folder)}")


def _read(folder: str, name: str) -> str:
    try:
        with open(os.path.join(folder, name), encoding="utf-8", errors="surrogateescape") as file:
            return file.read()
    except OSError as error:
        raise SnapshotError(
            f"cannot read {quoted(os.path.join(folder, name))}: {error.strerror}; "
            "--accounts takes a folder that holds the files passwd and group"
        ) from error


class NameService(Accounts):
    """This host's accounts, as getpwent(3) and getgrent(3) list them.

    The name service may know accounts that it does not list (a directory
    server with enumeration off): those are found when they are asked for by
    name or number.
    """

    def __init__(self) -> None:
        users = [_user(entry) for entry in pwd.getpwall()]
        groups = [_group(entry) for entry in grp.getgrall()]
        super().__init__(users, groups, "this host's accounts")
        # what was asked beyond the lists, and what came of it: asking again takes as long each time
        self._asked: dict[tuple[str, str | int], Any] = {}

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
        """Every group number of ``user``; for an unlisted user the name service is asked."""
        listed = super().gids_of(user)
        if user.name in self._listed_names:
            return listed
        return tuple(dict.fromkeys((*listed, *os.getgrouplist(user.name, user.gid))))


def _user(entry: pwd.struct_passwd) -> User:
    return User(entry.pw_name, entry.pw_uid, entry.pw_gid)


def _group(entry: grp.struct_group) -> Group:
    return Group(entry.gr_name, entry.gr_gid, tuple(entry.gr_mem))
