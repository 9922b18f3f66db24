"""Users, groups and membership, from any source.

Membership is what login gives (initgroups(3)): the primary group of
passwd(5), and every group of group(5) that lists the user.
"""

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from fiat.core.errors import AccountNotKnown, UnknownAccount
from fiat.core.model.view import Namesake, View
from fiat.core.text import LARGEST, id_number, joined, near, quoted, shortened


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


class Unknown(NamedTuple):
    """Something about accounts that a source of them did not tell: ``what`` that is, and ``why``, in words.

    ``kind`` is ``failed`` where it did not answer, ``unlisted`` where it knows more than it lists, ``by-lists``
    where it was taken at the word of its lists, for to ask for each user takes too long, and ``left-out`` for entries
    with numbers that nobody can have.
    """

    source: str
    what: str
    why: str
    kind: str = "failed"


FIRST_PERSON = 1000
"""The lowest number that people's accounts have where login.defs(5) says nothing of it."""

_LARGEST_PERSON = 65533
"""The highest number but those that 16 bits have for nobody."""

NO_LOGIN = ("nologin", "false", "true", "sync", "shutdown", "halt")
"""Shells that nobody logs in with, by the last name of their path."""


def memberships_in(groups: Iterable[Group]) -> dict[str, dict[int, None]]:
    """By the name of a user the numbers of those of ``groups`` that list it, in their order."""
    found: dict[str, dict[int, None]] = {}
    for group in groups:
        for name in group.members:
            found.setdefault(name, {})[group.gid] = None
    return found


class Accounts:
    """All the users and groups of one source, in its order.

    Where a name or number stands twice, the first one counts, as in the name
    service. ``source`` says in words where they come from. Numbers below ``first_person`` are those
    of the system's own users and groups; ``services`` are the names of others that count as the system's.
    """

    services: frozenset[str] = frozenset()

    def __init__(
        self, users: Iterable[User], groups: Iterable[Group], source: str, first_person: int = FIRST_PERSON
    ) -> None:
        self._users = tuple(users)
        self._groups = tuple(groups)
        self.source = source
        self._first_person = first_person
        self._listed_in: dict[int, list[User]] = {}
        self._counts: dict[int, int] = {}

    @property
    def users(self) -> tuple[User, ...]:
        """All users that are listed."""
        return self._users

    @property
    def groups(self) -> tuple[Group, ...]:
        """All groups that are listed."""
        return self._groups

    @cached_property
    def _user_by_name(self) -> dict[str, User]:
        return {user.name: user for user in reversed(self.users)}

    @cached_property
    def _user_by_uid(self) -> dict[int, User]:
        return {user.uid: user for user in reversed(self.users)}

    @cached_property
    def _group_by_name(self) -> dict[str, Group]:
        return {group.name: group for group in reversed(self.groups)}

    @cached_property
    def _group_by_gid(self) -> dict[int, Group]:
        return {group.gid: group for group in reversed(self.groups)}

    @cached_property
    def _listed(self) -> dict[str, dict[int, None]]:
        """By the name of a user the numbers of the groups that list it."""
        return memberships_in(self.groups)

    @property
    def unknown(self) -> tuple[Unknown, ...]:
        """What the sources did not tell of all that was asked so far."""
        return ()

    @property
    def tells_all(self) -> bool:
        """Whether every source told what was asked of it so far: what was not found then is not there."""
        return not any(one.kind == "failed" for one in self.unknown)

    def has_no_user(self, uid: int) -> bool:
        """Whether it is known that no account has this number."""
        return self.user_numbered(uid) is None and self.tells_all

    def has_no_group(self, gid: int) -> bool:
        """Whether it is known that no group has this number."""
        return self.group_numbered(gid) is None and self.tells_all

    def has_no_members(self, gid: int) -> bool:
        """Whether it is known that nobody is in a group: a source that does not list its users may have some."""
        return not self.member_count(gid) and not any(one.kind in ("failed", "unlisted") for one in self.unknown)

    def unsure(self, user: User) -> bool:
        """Whether ``user`` may be in more groups than :meth:`gids_of` has: not all that could know them told."""
        return False

    @property
    def view(self) -> View | None:
        """How those see the host whose accounts these are, where they are those of a container."""
        return None

    def same_people(self, uid: int) -> list[Namesake]:
        """The accounts of the host that have this number, where these are the accounts of a container."""
        return []

    @property
    def first_person(self) -> int:
        """The lowest number of a person's account."""
        return self._first_person

    def is_service(self, account: User) -> bool:
        """Whether nobody logs in as ``account``: by its number (login.defs(5), UID_MIN), or by its shell."""
        if account.uid == 0:
            return False
        no_person = account.uid < self.first_person or account.uid in (_LARGEST_PERSON + 1, 2**32 - 2)
        return no_person or account.name in self.services or account.shell.rpartition("/")[2] in NO_LOGIN

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

    def gids_of_each(self, users: Sequence[User]) -> list[tuple[int, ...]]:
        """What :meth:`gids_of` says of each: they are asked for together where they have to be asked for."""
        return [self.gids_of(user) for user in users]

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

    def groups_numbered(self, gid: int) -> Sequence[Group]:
        """Every group with this number, of whatever source: its members are members of all of them."""
        return self._by_gid.get(gid, ())

    def users_named(self, names: Iterable[str]) -> list[User]:
        """The accounts of these names, as far as there are any."""
        return [user for name in names if (user := self.user_named(name)) is not None]

    def listed_members(self, gid: int) -> list[User]:
        """The users that a group with number ``gid`` lists, where they exist."""
        known = self._listed_in.get(gid)
        if known is None:
            names = dict.fromkeys(name for group in self.groups_numbered(gid) for name in group.members)
            known = self._listed_in[gid] = [*dict.fromkeys(self.users_named(names))]
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
        return [*self._listed_once(), *self.users_named(unlisted)]

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

    def not_known(self, what: str) -> str:
        """That it is not known whether there is something, and why not."""
        reasons = joined(f"{one.source}: {one.why}" for one in self.unknown if one.kind == "failed")
        return f"whether there is a {what} is not known: not every source of accounts told ({reasons})"

    def _number(self, word: str, what: str, known: Sequence[str]) -> int:
        number = id_number(word)
        if number is not None:
            return number
        if word.isascii() and word.isdecimal():
            raise UnknownAccount(word, f"{shortened(word)} is no {what} number; they go from 0 to {LARGEST}")
        if not self.tells_all:
            raise AccountNotKnown(word, self.not_known(f"{what} called {quoted(word)}"))
        hint = near(word, known)
        instead = hint or "; write another name, or a number"
        raise UnknownAccount(word, f"no {what} is called {quoted(word)} in {self.source}{instead}", hint)


class HeldAccounts(Accounts):
    """Accounts with memberships that their groups do not list: ``logins`` are all groups of a user, by name.

    ``unknown`` is what could not be told when they were kept, ``unsure`` are the names of those whose groups were not.
    """

    def __init__(
        self,
        users: Iterable[User],
        groups: Iterable[Group],
        source: str,
        first_person: int = FIRST_PERSON,
        logins: Mapping[str, tuple[int, ...]] | None = None,
        unknown: Iterable[Unknown] = (),
        unsure: Iterable[str] = (),
    ) -> None:
        super().__init__(users, groups, source, first_person)
        self._logins = logins or {}
        self._unknown = tuple(unknown)
        self._unsure = frozenset(unsure)

    def gids_of(self, user: User) -> tuple[int, ...]:
        """Every group number of ``user``, the primary one first."""
        return self._logins.get(user.name) or super().gids_of(user)

    @property
    def unknown(self) -> tuple[Unknown, ...]:
        """What the sources had not told."""
        return self._unknown

    def unsure(self, user: User) -> bool:
        """Whether ``user`` may have been in more groups."""
        return user.name in self._unsure


class SupposedAccounts(Accounts):
    """The accounts as they would be if some users were, or were not, members of some groups.

    ``joins`` and ``leaves`` pair a user's name with a gid. Leaving counts for
    the primary group too: what such a user would have instead is not known.
    """

    def __init__(
        self, base: Accounts, joins: Iterable[tuple[str, int]] = (), leaves: Iterable[tuple[str, int]] = ()
    ) -> None:
        super().__init__(base.all_users(), base.groups, base.source, base.first_person)
        self.services = base.services
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
        return self._supposed(user, self._base.gids_of(user))

    def gids_of_each(self, users: Sequence[User]) -> list[tuple[int, ...]]:
        """Every group number that each would have."""
        known = self._base.gids_of_each(users)
        return [self._supposed(user, gids) for user, gids in zip(users, known, strict=True)]

    def _supposed(self, user: User, gids: tuple[int, ...]) -> tuple[int, ...]:
        joined = [gid for name, gid in self._joins if name == user.name]
        kept = [gid for gid in gids if (user.name, gid) not in self._leaves]
        return tuple(dict.fromkeys((*kept, *joined)))

    @property
    def view(self) -> View | None:
        """That of the accounts beneath."""
        return self._base.view

    def same_people(self, uid: int) -> list[Namesake]:
        """Those of the accounts beneath."""
        return self._base.same_people(uid)

    @property
    def unknown(self) -> tuple[Unknown, ...]:
        """What the sources of the accounts beneath did not tell."""
        return self._base.unknown

    def unsure(self, user: User) -> bool:
        """Whether ``user`` may be in more groups, with the accounts beneath."""
        return self._base.unsure(user)


class SupplementedAccounts(Accounts):
    """Accounts that not every source told of, with what was known before or after that: unknown is not gone.

    What is not listed is asked for; what cannot be asked for, or did not answer, is taken as it was known.
    """

    def __init__(self, base: Accounts, known: Accounts) -> None:
        self._base = base
        self._known = known
        users = {user.name: user for user in reversed(base.all_users())}
        groups = {group.name: group for group in reversed(base.groups)}
        lists_less = any(one.kind == "unlisted" for one in base.unknown)
        unknown = not base.tells_all or (lists_less and isinstance(base, HeldAccounts))
        for user in known.all_users():
            found = base.user_named(user.name) or (user if unknown else None)
            if found is not None:
                users.setdefault(user.name, found)
        for group in known.groups:
            named = base.group_named(group.name) or (group if unknown else None)
            if named is not None:
                groups.setdefault(group.name, named)
        super().__init__(users.values(), groups.values(), base.source, base.first_person)
        self.services = base.services

    def gids_of(self, user: User) -> tuple[int, ...]:
        """Every group number of ``user`` that either knows, where not all of them were told."""
        told = self._base.user_named(user.name) == user
        own = self._base.gids_of(user) if told else ()
        if told and not self._base.unsure(user):
            return own
        before = self._known.user_named(user.name)
        return tuple(dict.fromkeys((*own, *(() if before is None else self._known.gids_of(before)))))

    @property
    def view(self) -> View | None:
        """That of the accounts beneath."""
        return self._base.view

    def same_people(self, uid: int) -> list[Namesake]:
        """Those of the accounts beneath."""
        return self._base.same_people(uid)

    @property
    def unknown(self) -> tuple[Unknown, ...]:
        """What was not told."""
        return self._base.unknown

    def unsure(self, user: User) -> bool:
        """Whether the groups of ``user`` were not all told."""
        return self._base.unsure(user)
