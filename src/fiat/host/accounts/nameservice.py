"""This host's accounts, as its name service has them."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Sequence
from contextlib import suppress
from functools import cached_property
from typing import TYPE_CHECKING, Any, TypeVar

from fiat.core.errors import SnapshotError
from fiat.core.model.accounts import Accounts, Group, Unknown, User, memberships_in
from fiat.core.text import LARGEST, joined, quoted, several, visible
from fiat.core.words.accountfiles import first_person
from fiat.host.accounts.asking import TIME_LIMIT, Answer, Asker
from fiat.host.accounts.files import GROUP, PASSWD, groups_in, text_of, users_in
from fiat.host.accounts.switch import FILES, Source, Status, sources_of

if TYPE_CHECKING:
    from collections.abc import Callable

LOGIN_DEFS = "/etc/login.defs"
NAME_SERVICE_SWITCH = "/etc/nsswitch.conf"
_READ_FIRST = (NAME_SERVICE_SWITCH, PASSWD, GROUP)

_SYSTEMD = "/run/systemd/userdb"
"""Where systemd's users are asked for (nss-systemd(8)): where it is not, it has none."""

_NOBODYS = 2**32 - 3
"""A number that nobody has."""

_HOW = ("called", "with number")
"""How one user or group is asked for."""

_ASKED_EACH = 256
"""So many users at most are asked for one by one where the groups list their members, too, and say the same."""

Found = TypeVar("Found", User, Group)


class NameService(Accounts):
    """This host's accounts: from the files passwd(5) and group(5), and from the other sources of nsswitch.conf(5).

    A source may know accounts that it does not list (a directory server with enumeration off): those are found when
    they are asked for by name or number. It may not answer: then what is known is answered, :attr:`unknown` says what
    is not, and all waiting together takes ``limit`` seconds at most.
    """

    def __init__(self, limit: float = TIME_LIMIT) -> None:
        for path in _READ_FIRST:
            with suppress(FileNotFoundError, PermissionError):
                if not stat.S_ISREG(os.stat(path).st_mode):
                    raise SnapshotError(f"cannot read this host's accounts: {quoted(path)} is no regular file")
        super().__init__((), (), "this host's accounts")
        text = text_of(NAME_SERVICE_SWITCH)
        self._of_users = sources_of(text, "passwd") or (FILES,)
        self._of_groups = sources_of(text, "group") or (FILES,)
        self._of_logins = sources_of(text, "initgroups")
        self._limit = limit
        self._asker = Asker(limit)
        self._asked: dict[tuple[str, str, tuple[Any, ...]], Answer] = {}
        self._untold: dict[tuple[str, str], dict[str, None]] = {}
        self._late: set[str] = set()
        self._not_listing: dict[tuple[str, str], None] = {}
        self._odd: dict[tuple[str, str], str] = {}
        self._by_lists: dict[str, tuple[int, int]] = {}
        self._in_lists: dict[tuple[str, str], dict[str, dict[Any, Any]]] = {}
        self._user_of_number: dict[int, User | None] = {}
        self._group_of_number: dict[int, Group | None] = {}
        self._gids: dict[User, tuple[int, ...]] = {}
        self._unsure: set[str] = set()

    @property
    def first_person(self) -> int:
        """The lowest number of a person's account, by login.defs(5)."""
        return self._lowest

    @cached_property
    def _lowest(self) -> int:
        return first_person(text_of(LOGIN_DEFS))

    # --- the sources ---

    @cached_property
    def _file_users(self) -> tuple[User, ...]:
        return tuple(users_in(text_of(PASSWD)))

    @cached_property
    def _file_groups(self) -> tuple[Group, ...]:
        return tuple(groups_in(text_of(GROUP)))

    @cached_property
    def _file_memberships(self) -> dict[str, dict[int, None]]:
        return memberships_in(self._file_groups)

    @cached_property
    def _in_files(self) -> dict[str, dict[Any, Any]]:
        """What the files answer, by what is asked."""
        return _by_key("users", self._file_users) | _by_key("groups", self._file_groups)

    def _ask(self, questions: Iterable[tuple[str, str, tuple[Any, ...]]]) -> list[Answer]:
        """What sources other than the files answer, each asked once."""
        wanted = list(questions)
        new = [one for one in dict.fromkeys(wanted) if one not in self._asked]
        there = [one for one in new if _is_there(one[0])]
        self._asked |= dict.fromkeys(new, Answer(None))
        if there:
            self._asked |= zip(there, self._asker.ask(there), strict=True)
        return [self._asked[one] for one in wanted]

    def _failed(self, source: str, answer: Answer, what: str, example: str = "") -> bool:
        """Whether a source did not tell, though it is there; then that is noted."""
        if answer.status is None or answer.status >= 0:
            return False
        if source == "systemd" and not answer.late:
            return False  # where it does not run, nobody has an account of it
        self._untold.setdefault((source, what), {}).setdefault(example)
        if answer.late:
            self._late.add(source)
        return True

    # --- all that is listed ---

    def _listed_by(self, source: Source, what: str) -> tuple[Status, tuple[Any, ...]]:
        """What a source lists of ``users`` or ``groups``, and the status that it ends with."""
        if source.name == FILES.name:
            return Status.NOTFOUND, self._file_users if what == "users" else self._file_groups
        # whoever wants all users wants their groups, too: both are asked for at once
        (answer, *_) = self._ask((source.name, kind, ()) for kind in ((what, "groups") if what == "users" else (what,)))
        made: Callable[..., Any] = User if what == "users" else Group
        listed = [made(*row) for row in answer.value or ()]
        found = tuple(one for one in listed if _can_be(one))
        if len(found) < len(listed):
            odd = [visible(one.name) for one in listed if not _can_be(one)]
            self._odd[source.name, what] = several(odd, what, 4)
        if answer.status is None:
            return Status.UNAVAIL, found
        if not found and source.name != "systemd" and (answer.status >= 0 or self._answers(source.name, answer)):
            self._not_listing.setdefault((source.name, what))
            return Status.NOTFOUND, found
        self._failed(source.name, answer, f"all of its {what}")
        return Status(answer.status), found

    def _answers(self, source: str, listing: Answer) -> bool:
        """Whether a source that does not list anything answers all the same where it is asked for one: then it was told
        not to list, and some say then that they cannot be had."""
        if listing.late:
            return False
        (one,) = self._asker.ask([(source, "user_numbered", (_NOBODYS,))])  # anew: it may have gone meanwhile
        return one.status is not None and one.status >= 0

    def _all(self, sources: Sequence[Source], what: str, named: str) -> tuple[Any, ...]:
        """What can be found by name, of all that is listed.

        getpwent(3) stops elsewhere than getpwnam(3) does, where nsswitch.conf has reactions; who can log in is who is
        found by name.
        """
        found: dict[str, Any] = {}
        usual = True
        hidden: list[str] = []
        for source in sources:
            status, listed = self._listed_by(source, what)
            # what comes first may know one of these names as well, and not list it
            usual &= not (hidden and listed) and source.after(Status.SUCCESS) == "return"
            for one in listed:
                found.setdefault(one.name, one)
            if not self._lists(source, what):
                hidden.append(source.name)
            if source.after(min(status, Status.NOTFOUND)) == "return":
                break
        if usual:
            return tuple(found.values())
        self._ask((source, named, (name,)) for source in hidden for name in found)
        return tuple(one for name in found if (one := self._lookup(sources, named, name)) is not None)

    @property
    def users(self) -> tuple[User, ...]:
        """All users that the sources list."""
        return self._listed_users

    @cached_property
    def _listed_users(self) -> tuple[User, ...]:
        return self._all(self._of_users, "users", "user_named")

    @property
    def groups(self) -> tuple[Group, ...]:
        """All groups that the sources list."""
        return self._listed_groups

    @cached_property
    def _listed_groups(self) -> tuple[Group, ...]:
        return self._all(self._of_groups, "groups", "group_named")

    def _lists(self, source: Source, what: str) -> bool:
        """Whether a source was asked for all, and listed some: then it lists them all."""
        if source.name == FILES.name:
            return True
        answer = self._asked.get((source.name, what, ()))
        return answer is not None and (answer.status is None or (answer.status >= 0 and bool(answer.value)))

    # --- one by name or number ---

    def _answer(self, source: Source, what: str, key: str | int) -> tuple[Status | None, Any]:
        """What one source knows by a name or a number: from its list where that was read, else asked for.

        None in place of a status where there is no such source, or it cannot do that.
        """
        if source.name == FILES.name:
            found = self._in_files[what].get(key)
            return (Status.NOTFOUND, None) if found is None else (Status.SUCCESS, found)
        kind = "users" if what.startswith("user") else "groups"
        if (source.name, kind, ()) in self._asked:
            if (source.name, kind) not in self._in_lists:
                self._in_lists[source.name, kind] = _by_key(kind, self._listed_by(source, kind)[1])
            found = self._in_lists[source.name, kind][what].get(key)
            if found is not None:
                return Status.SUCCESS, found
        (answer,) = self._ask([(source.name, what, (key,))])
        failed = answer.status is not None and answer.status < 0
        if failed and isinstance(key, str) and self._answers(source.name, answer):
            return Status.NOTFOUND, None  # it is there, and takes that for no name
        self._failed(source.name, answer, f"a {kind[:-1]} {_HOW[what.endswith('numbered')]}", visible(str(key)))
        if answer.status is None:
            return None, None
        if answer.status == Status.SUCCESS:
            found = (User if kind == "users" else Group)(*answer.value)
            return (Status.SUCCESS, found) if _can_be(found) else (Status.NOTFOUND, None)
        return Status(answer.status), None

    def _lookup(self, sources: Sequence[Source], what: str, key: str | int) -> Any:
        """What the name service answers: the first source that knows it, or a group of one name merged of several.

        The order of steps is that of glibc (nss/getXXbyYY_r.c): where one source is told to go on after it knows the
        answer, what the next one says counts, and if there is none, what is known.
        """
        found: Any = None
        merging: Group | None = None
        status = Status.UNAVAIL
        for source in sources:
            told, one = self._answer(source, what, key)
            if told is None:
                if source.after(Status.UNAVAIL) != "continue":
                    break
                continue
            status, found = told, one
            if merging is not None:
                if status == Status.SUCCESS and (found.name, found.gid) == (merging.name, merging.gid):
                    found = merging._replace(members=merging.members + found.members)
                else:
                    found = merging
                status, merging = Status.SUCCESS, None
            action = source.after(status)
            if action == "return":
                break
            if action == "merge" and status == Status.SUCCESS and isinstance(found, Group):
                merging = found
        return found if status == Status.SUCCESS else None

    def user_named(self, name: str) -> User | None:
        """The user called ``name``, listed or not."""
        found: User | None = self._lookup(self._of_users, "user_named", name)
        return found

    def user_numbered(self, uid: int) -> User | None:
        """The user with number ``uid``, listed or not."""
        if uid not in self._user_of_number:
            self._user_of_number[uid] = self._lookup(self._of_users, "user_numbered", uid)
        return self._user_of_number[uid]

    def group_named(self, name: str) -> Group | None:
        """The group called ``name``, listed or not."""
        found: Group | None = self._lookup(self._of_groups, "group_named", name)
        return found

    def group_numbered(self, gid: int) -> Group | None:
        """The group with number ``gid``, listed or not."""
        if gid not in self._group_of_number:
            self._group_of_number[gid] = self._lookup(self._of_groups, "group_numbered", gid)
        return self._group_of_number[gid]

    def users_named(self, names: Iterable[str]) -> list[User]:
        """The accounts of these names: those that no list has are asked for together."""
        wanted = list(names)
        others = [name for name in wanted if name not in self._user_by_name]
        self._ask((source.name, "user_named", (name,)) for source in _beyond(self._of_users) for name in others)
        return super().users_named(wanted)

    def users_numbered(self, uid: int) -> list[User]:
        """Every account with number ``uid``, of each source: what one of them owns the others do."""
        found = dict.fromkeys(super().users_numbered(uid))
        for source in self._of_users:
            if not self._lists(source, "users"):
                status, user = self._answer(source, "user_numbered", uid)
                if status == Status.SUCCESS and self.user_named(user.name) == user:
                    found.setdefault(user)
        return [*found]

    def groups_numbered(self, gid: int) -> Sequence[Group]:
        """Every group with this number, of each source."""
        found = dict.fromkeys(super().groups_numbered(gid))
        for source in self._of_groups:
            if not self._lists(source, "groups"):
                status, group = self._answer(source, "group_numbered", gid)
                if status == Status.SUCCESS:
                    found.setdefault(group)
        return [*found]

    # --- memberships ---

    def gids_of(self, user: User) -> tuple[int, ...]:
        """Every group number of ``user``, as initgroups(3) gives them."""
        return self.gids_of_each([user])[0]

    def gids_of_each(self, users: Sequence[User]) -> list[tuple[int, ...]]:
        """Every group number of each, as initgroups(3) gives them."""
        new = [user for user in dict.fromkeys(users) if user not in self._gids]
        if new:
            pending = {user: {user.gid: None} for user in new}
            for source in self._of_logins or self._of_groups:
                told = self._memberships(source, [*pending])
                for user, (status, gids) in told.items():
                    pending[user] |= dict.fromkeys(gids)
                    # all sources are asked, but where a line of its own for initgroups says otherwise (glibc does so)
                    stops = bool(self._of_logins) or status != Status.SUCCESS
                    if stops and source.after(status) == "return":
                        self._gids[user] = tuple(pending.pop(user))
            self._gids |= {user: tuple(gids) for user, gids in pending.items()}
        return [self._gids[user] for user in users]

    def _memberships(self, source: Source, users: Sequence[User]) -> dict[User, tuple[Status, Iterable[int]]]:
        """What one source says of the groups of each user, beside the primary one."""
        if source.name == FILES.name:
            known = self._file_memberships
            return {
                user: (Status.SUCCESS, known[user.name]) if user.name in known else (Status.NOTFOUND, ())
                for user in users
            }
        asked = users if len(users) <= _ASKED_EACH else users[:: len(users) // _ASKED_EACH]
        found: dict[User, tuple[Status, Iterable[int]]] = {}
        answers = self._ask((source.name, "memberships", (user.name, user.gid)) for user in asked)
        cannot = all(answer.status is None for answer in answers)  # it has no such function, or is not there
        if len(asked) < len(users) or cannot:
            status, listed = self._listed_memberships(source)
            found = {user: (status, listed.get(user.name, ())) for user in users}
            if cannot:
                return found
            if status == Status.SUCCESS and all(
                answer.status is not None
                and answer.status >= 0
                and {*answer.value} - {user.gid} == {*listed.get(user.name, ())} - {user.gid}
                for user, answer in zip(asked, answers, strict=True)
            ):
                self._by_lists[source.name] = len(asked), len(users)
                return found
            asked = users
            answers = self._ask((source.name, "memberships", (user.name, user.gid)) for user in asked)
        for user, answer in zip(asked, answers, strict=True):
            gids: Iterable[int] = [gid for gid in answer.value or () if gid <= LARGEST]
            if self._failed(source.name, answer, "the groups of", visible(user.name)):
                self._unsure.add(user.name)
                gids = found.get(user, (0, ()))[1]  # what the groups list is known, even where nothing else is
            found[user] = Status.UNAVAIL if answer.status is None else Status(answer.status), gids
        return found

    def _listed_memberships(self, source: Source) -> tuple[Status, dict[str, dict[int, None]]]:
        """The status that initgroups(3) comes to by reading all groups, and the groups of each user."""
        status, groups = self._listed_by(source, "groups")
        (answer,) = self._ask([(source.name, "groups", ())])
        return (Status.SUCCESS if status == Status.NOTFOUND and answer.value is not None else status), memberships_in(
            groups
        )

    def unsure(self, user: User) -> bool:
        """Whether a source did not tell the groups of ``user``."""
        return user.name in self._unsure

    @cached_property
    def lists_all_groups(self) -> bool:
        """Whether the memberships that it lists are all there are: they come from files alone."""
        return {source.name for source in self._of_logins or self._of_groups} == {FILES.name}

    # --- what is not known ---

    @property
    def unknown(self) -> tuple[Unknown, ...]:
        """What the sources did not tell of all that was asked so far."""
        found = []
        for source in dict.fromkeys(source for source, _ in self._untold):
            why = f"had not answered after {self._limit:g} seconds" if source in self._late else "did not answer"
            untold = {what: [*examples] for (of, what), examples in self._untold.items() if of == source}
            whats = [what for what, examples in untold.items() if examples == [""]]
            for what, kind in (("a user", "users"), ("a group", "groups")):
                if f"all of its {kind}" not in untold:
                    whats += [
                        f"{what} {how} {several(names)}" for how in _HOW if (names := untold.get(f"{what} {how}"))
                    ]
            if "the groups of" in untold:
                whats.append(f"the groups of {several(untold['the groups of'], 'users', 4)}")
            found.append(Unknown(source, joined(whats), why))
        for source, what in self._not_listing:
            found.append(Unknown(source, f"all of its {what}", f"lists no {what}", "unlisted"))
        for (source, what), odd in self._odd.items():
            why = "no process can have it (-1), so they are left out"
            found.append(Unknown(source, f"{what} with a number that is none ({odd})", why, "left-out"))
        for source, (asked, of) in self._by_lists.items():
            why = f"{asked:,} of {of:,} users were asked for one by one, and its groups list the same of them"
            found.append(Unknown(source, "each user's groups", why, "by-lists"))
        return tuple(found)


def _can_be(found: User | Group) -> bool:
    """Whether the numbers are some that a process can have: -1 is none (setresuid(2))."""
    return found[1] <= LARGEST and (isinstance(found, Group) or found.gid <= LARGEST)


def _by_key(kind: str, found: Sequence[Any]) -> dict[str, dict[Any, Any]]:
    """Users, or groups, by what can be asked for; of several of a name or a number the first counts."""
    one = kind[:-1]
    return {
        f"{one}_named": {each[0]: each for each in reversed(found)},
        f"{one}_numbered": {each[1]: each for each in reversed(found)},
    }


def _is_there(source: str) -> bool:
    return source != "systemd" or os.path.isdir(_SYSTEMD)


def _beyond(sources: Sequence[Source]) -> list[Source]:
    return [source for source in sources if source.name != FILES.name]


def listed_in_files(name: str) -> set[int]:
    """The groups, by number, that /etc/group lists the user called ``name`` in."""
    return {group.gid for group in groups_in(text_of(GROUP)) if name in group.members}
