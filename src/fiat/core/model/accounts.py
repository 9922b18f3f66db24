"""Users, groups and membership, from any source.

Membership is what login gives (initgroups(3)): the primary group of
passwd(5), and every group of group(5) that lists the user.
"""

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from fiat.core.errors import UnknownAccount
from fiat.core.text import LARGEST, id_number, near, quoted, shortened


class User(NamedTuple):
    """An account: name, number, number of its primary group; comment, home and shell, empty where unknown."""

    name: str
    uid: int
    gid: int
    comment: str = ""
    home: str = ""
    shell: str = ""


class Group(NamedTuple):
    """A group and the names of the users it lists (primary members are not listed)."""

    name: str
    gid: int
    members: tuple[str, ...] = ()


FIRST_PERSON = 1000
"""The lowest number that people's accounts have where login.defs(5) says nothing of it."""

_LARGEST_PERSON = 65533
"""The highest number but those that 16 bits have for nobody."""

NO_LOGIN = ("nologin", "false", "true", "sync", "shutdown", "halt")
"""Shells that nobody logs in with, by the last name of their path."""


class Accounts:
    """All the users and groups of one source, in its order.

    Where a name or number stands twice, the first one counts, as in the name
    service. ``source`` says in words where they come from. Numbers below ``first_person`` are those
    of the system's own users and groups.
    """

    def __init__(
        self, users: Iterable[User], groups: Iterable[Group], source: str, first_person: int = FIRST_PERSON
    ) -> None:
        self.users = tuple(users)
        self.groups = tuple(groups)
        self.source = source
        self._first_person = first_person
        self._user_by_name = {user.name: user for user in reversed(self.users)}
        self._user_by_uid = {user.uid: user for user in reversed(self.users)}
        self._group_by_name = {group.name: group for group in reversed(self.groups)}
        self._group_by_gid = {group.gid: group for group in reversed(self.groups)}
        self._listed: dict[str, dict[int, None]] = {}
        self._listed_in: dict[int, list[User]] = {}
        self._counts: dict[int, int] = {}
        for group in self.groups:
            for name in group.members:
                self._listed.setdefault(name, {})[group.gid] = None

    @property
    def first_person(self) -> int:
        """The lowest number of a person's account."""
        return self._first_person

    def is_service(self, account: User) -> bool:
        """Whether nobody logs in as ``account``: by its number (login.defs(5), UID_MIN), or by its shell."""
        if account.uid == 0:
            return False
        no_person = account.uid < self.first_person or account.uid in (_LARGEST_PERSON + 1, 2**32 - 2)
        return no_person or account.shell.rpartition("/")[2] in NO_LOGIN

    def user_named(self, name: str) -> User | None:
        """The account of the user called ``name``; None where there is none."""
        return self._user_by_name.get(name)

    def user_numbered(self, uid: int) -> User | None:
        """The first user with number ``uid``."""
        return self._user_by_uid.get(uid)

    def group_named(self, name: str) -> Group | None:
        """The group called ``name``; None where there is none."""
        return self._group_by_name.get(name)

    def group_numbered(self, gid: int) -> Group | None:
        """The first group with number ``gid``."""
        return self._group_by_gid.get(gid)

    def gids_of(self, user: User) -> tuple[int, ...]:
        """Every group number of ``user``, the primary one first."""
        return tuple(dict.fromkeys((user.gid, *self._listed.get(user.name, ()))))

    def primary_members(self, gid: int) -> list[User]:
        """The users whose primary group is ``gid``."""
        return self._primary.get(gid, [])

    @cached_property
    def _by_gid(self) -> dict[int, list[Group]]:
        found: dict[int, list[Group]] = {}
        for group in self.groups:
            found.setdefault(group.gid, []).append(group)
        return found

    @cached_property
    def _primary(self) -> dict[int, list[User]]:
        found: dict[int, list[User]] = {}
        for user in self.users:
            found.setdefault(user.gid, []).append(user)
        return found

    def listed_members(self, gid: int) -> list[User]:
        """The users that a group with number ``gid`` lists, where they exist."""
        known = self._listed_in.get(gid)
        if known is None:
            found = (self.user_named(name) for group in self._by_gid.get(gid, ()) for name in group.members)
            known = self._listed_in[gid] = [user for user in dict.fromkeys(found) if user is not None]
        return known

    def member_count(self, gid: int) -> int:
        """How many users are in the group, primary members and those that it lists."""
        count = self._counts.get(gid)
        if count is None:
            count = self._counts[gid] = len({*self.primary_members(gid), *self.listed_members(gid)})
        return count

    def users_numbered(self, uid: int) -> list[User]:
        """Every listed account with number ``uid``, or the one that is known: what one of them owns the others do."""
        return self._numbered.get(uid) or [user for user in (self.user_numbered(uid),) if user is not None]

    @cached_property
    def _numbered(self) -> dict[int, list[User]]:
        found: dict[int, list[User]] = {}
        for user in self._listed_once():
            found.setdefault(user.uid, []).append(user)
        return found

    def _listed_once(self) -> list[User]:
        """The users, each name once: the first one counts."""
        first = {user.name: user for user in reversed(self.users)}
        return [user for user in self.users if first[user.name] is user]

    def all_users(self) -> list[User]:
        """The users, each name once, and those that only a group's list of members tells of."""
        listed = {user.name for user in self.users}
        unlisted = dict.fromkeys(name for group in self.groups for name in group.members if name not in listed)
        return [*self._listed_once(), *(user for name in unlisted if (user := self.user_named(name)) is not None)]

    # --- words from a command line ---

    def user_id(self, word: str) -> int:
        """The uid for a name or number as written; :class:`UnknownAccount` for other words."""
        user = self.user_named(word)
        if user is not None:
            return user.uid
        return self._number(word, "user", [known.name for known in self.users])

    def group_id(self, word: str) -> int:
        """The gid for a name or number as written; :class:`UnknownAccount` for other words."""
        group = self.group_named(word)
        if group is not None:
            return group.gid
        return self._number(word, "group", [known.name for known in self.groups])

    def _number(self, word: str, what: str, known: Sequence[str]) -> int:
        number = id_number(word)
        if number is not None:
            return number
        if word.isascii() and word.isdecimal():
            raise UnknownAccount(word, f"{shortened(word)} is no {what} number; they go from 0 to {LARGEST}")
        hint = near(word, known)
        raise UnknownAccount(word, f"no {what} is called {quoted(word)} in {self.source}{hint}", hint)


class HeldAccounts(Accounts):
    """Accounts with memberships that their groups do not list: ``logins`` are all groups of a user, by name."""

    def __init__(
        self,
        users: Iterable[User],
        groups: Iterable[Group],
        source: str,
        first_person: int = FIRST_PERSON,
        logins: Mapping[str, tuple[int, ...]] | None = None,
    ) -> None:
        super().__init__(users, groups, source, first_person)
        self._logins = logins or {}

    def gids_of(self, user: User) -> tuple[int, ...]:
        """Every group number of ``user``, the primary one first."""
        return self._logins.get(user.name) or super().gids_of(user)


class SupposedAccounts(Accounts):
    """The accounts as they would be if some users were, or were not, members of some groups.

    ``joins`` and ``leaves`` pair a user's name with a gid. Leaving counts for
    the primary group too: what such a user would have instead is not known.
    """

    def __init__(
        self, base: Accounts, joins: Iterable[tuple[str, int]] = (), leaves: Iterable[tuple[str, int]] = ()
    ) -> None:
        super().__init__(base.all_users(), base.groups, base.source, base.first_person)
        self._base = base
        self._joins = tuple(joins)
        self._leaves = frozenset(leaves)

    def user_named(self, name: str) -> User | None:
        """The account of the user called ``name``, asked of the accounts beneath; None where there is none."""
        return self._base.user_named(name)

    def user_numbered(self, uid: int) -> User | None:
        """The first user with number ``uid``."""
        return self._base.user_numbered(uid)

    def group_named(self, name: str) -> Group | None:
        """The group called ``name``, asked of the accounts beneath; None where there is none."""
        return self._base.group_named(name)

    def group_numbered(self, gid: int) -> Group | None:
        """The first group with number ``gid``."""
        return self._base.group_numbered(gid)

    def gids_of(self, user: User) -> tuple[int, ...]:
        """Every group number that ``user`` would have."""
        joined = [gid for name, gid in self._joins if name == user.name]
        kept = [gid for gid in self._base.gids_of(user) if (user.name, gid) not in self._leaves]
        return tuple(dict.fromkeys((*kept, *joined)))
