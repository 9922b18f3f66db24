"""Many hosts asked as one: equal answers put together, whoever of them is called the same, or has the same number."""

import hashlib
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from json import dumps
from typing import Any, Generic, Literal, NamedTuple, TypeVar

from fiat.core.model.accounts import Accounts, Group, HeldAccounts, User
from fiat.core.text import Fields

SamePeople = Literal["name", "uid"]
"""By what an account of one host is that of another."""

Payload = TypeVar("Payload")


class People(NamedTuple):
    """The accounts of a host: the number of each user and of each group, by name."""

    users: Mapping[str, int]
    groups: Mapping[str, int]


def people_of(accounts: Accounts) -> People:
    """The accounts that are listed; of several with one name the first."""
    users: dict[str, int] = {}
    groups: dict[str, int] = {}
    for user in accounts.all_users():
        users.setdefault(user.name, user.uid)
    for group in accounts.groups:
        groups.setdefault(group.name, group.gid)
    return People(users, groups)


# --- what is the same -------------------------------------------------------------------

_ENTRY = re.compile(r"(user|group):(\d+):([r-][w-][x-])")
_NUMBERS = frozenset(("uid", "gid", "number"))
_NAMED = re.compile(r"([^\s,;:()]+) \((\d+)\)")


class Sameness:
    """What makes records, and texts, of one host the same as those of another, where people are joined by name.

    The numbers of its accounts do not count then, neither beside their names nor in entries of lists.
    """

    def __init__(self, people: People, joined_by: SamePeople) -> None:
        self._by_name = joined_by == "name"
        self._numbers = {f"{name} ({number})" for numbers in people for name, number in numbers.items()}
        self._users, self._groups = ({number: name for name, number in numbers.items()} for numbers in people)

    def of_record(self, record: Fields, left_out: Iterable[str] = ()) -> bytes:
        """A digest of a record, without the fields ``left_out``, at whatever depth."""
        return _digest(dumps(self._reduced(record, frozenset(left_out)), sort_keys=True))

    def of_text(self, text: str) -> bytes:
        """A digest of a text."""
        return _digest(_NAMED.sub(self._without_number, text) if self._by_name else text)

    def _without_number(self, found: re.Match[str]) -> str:
        return found[1] if found[0] in self._numbers else found[0]

    def _reduced(self, value: Any, left_out: frozenset[str]) -> Any:
        if isinstance(value, Mapping):
            known = self._by_name and value.get("name") is not None
            return {
                name: self._groups_of(one) if name == "gids" and self._by_name else self._reduced(one, left_out)
                for name, one in value.items()
                if name not in left_out and not (known and name in _NUMBERS)
            }
        if isinstance(value, list | tuple):
            each = [self._reduced(one, left_out) for one in value]
            if each and all(isinstance(one, dict) and "name" in one for one in each):
                each.sort(key=lambda one: dumps(one, sort_keys=True))
            return each
        if isinstance(value, str) and self._by_name:
            return _ENTRY.sub(self._with_name, value) if ":" in value else value
        return value

    def _groups_of(self, gids: Sequence[int]) -> list[str]:
        return sorted(self._groups.get(gid, str(gid)) for gid in gids)

    def _with_name(self, found: re.Match[str]) -> str:
        names = self._users if found[1] == "user" else self._groups
        return f"{found[1]}:{names.get(int(found[2]), found[2])}:{found[3]}"


def _digest(text: str) -> bytes:
    return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=16).digest()


# --- put together -----------------------------------------------------------------------


class Met(Generic[Payload]):
    """Something that hosts say: the first of them to say it, all of them as a set, and what is counted over all."""

    __slots__ = ("counts", "hosts", "said")

    def __init__(self, said: Payload, hosts: int, counts: list[int]) -> None:
        self.said = said
        self.hosts = hosts
        self.counts = counts


class Together(Generic[Payload]):
    """Equal things once, each with the set of the hosts (a bit for each) that say it; what is held is what differs."""

    def __init__(self) -> None:
        self.known: dict[bytes, Met[Payload]] = {}

    def take(self, host: int, digest: bytes, said: Payload, counts: Sequence[int] = ()) -> None:
        """Take what the host with this place says; ``said`` is kept where it is new, or of an earlier host."""
        met = self.known.get(digest)
        if met is None:
            self.known[digest] = Met(said, 1 << host, list(counts))
            return
        if host < (met.hosts & -met.hosts).bit_length() - 1:
            met.said = said
        met.hosts |= 1 << host
        for place, count in enumerate(counts):
            met.counts[place] += count

    def by_hosts(self) -> Iterator[tuple[int, list[Met[Payload]]]]:
        """What is said by just the same hosts together, with these; the fewest hosts first, then the first of them."""
        groups: dict[int, list[Met[Payload]]] = {}
        for met in self.known.values():
            groups.setdefault(met.hosts, []).append(met)
        yield from sorted(groups.items(), key=lambda group: (group[0].bit_count(), _places(group[0])))


def _places(hosts: int) -> tuple[int, ...]:
    return tuple(members(hosts))


def members(hosts: int) -> Iterator[int]:
    """The places of the hosts in a set, in order."""
    while hosts:
        lowest = hosts & -hosts
        yield lowest.bit_length() - 1
        hosts ^= lowest


# --- who is who -------------------------------------------------------------------------


class Clash(NamedTuple):
    """A name with several numbers, or a number with several names: which, and the hosts of each, the most first."""

    kind: str
    what: str | int
    others: list[tuple[str | int, int]]


class EveryPerson:
    """The accounts of all hosts: which names have which numbers, on which hosts."""

    def __init__(self) -> None:
        self._known: dict[tuple[str, str, int], int] = {}

    def take(self, host: int, people: People) -> None:
        """Take those of the host with this place."""
        for kind, numbers in zip(("user", "group"), people, strict=True):
            for name, number in numbers.items():
                self._known[kind, name, number] = self._known.get((kind, name, number), 0) | 1 << host

    def clashes(self, joined_by: SamePeople) -> list[Clash]:
        """Where those who are taken for one person are told apart by the other of name and number."""
        found: dict[tuple[str, str | int], list[tuple[str | int, int]]] = {}
        for (kind, name, number), hosts in self._known.items():
            key, other = (name, number) if joined_by == "name" else (number, name)
            found.setdefault((kind, key), []).append((other, hosts))
        return [
            Clash(kind, key, sorted(others, key=lambda one: (-one[1].bit_count(), str(one[0]))))
            for (kind, key), others in found.items()
            if len(others) > 1
        ]

    def names(self) -> tuple[dict[int, str], dict[int, str]]:
        """The name that each number of a user, and of a group, has on most hosts; no two have one name."""
        by_kind: dict[str, dict[int, list[tuple[int, str]]]] = {"user": {}, "group": {}}
        for (kind, name, number), hosts in self._known.items():
            by_kind[kind].setdefault(number, []).append((-hosts.bit_count(), name))
        return _called(by_kind["user"]), _called(by_kind["group"])


def _called(known: Mapping[int, list[tuple[int, str]]]) -> dict[int, str]:
    found: dict[int, str] = {}
    taken: set[str] = set()
    for number, names in sorted(known.items(), key=lambda one: (min(one[1]), one[0])):
        name = min(names)[1]
        found[number] = name if name not in taken else f"{name}/{number}"
        taken.add(name)
    return found


def renamed(accounts: Accounts, users: Mapping[int, str], groups: Mapping[int, str]) -> Accounts:
    """The accounts of a host under the names that their numbers have in the fleet."""
    everyone = accounts.all_users()
    called: dict[str, str] = {}
    for user in everyone:
        name = users.get(user.uid, user.name)
        called[user.name] = user.name if name in called.values() else name  # several accounts may have one number
    logins = dict(zip((called[user.name] for user in everyone), accounts.gids_of_each(everyone), strict=True))
    return HeldAccounts(
        [_user(user, called[user.name]) for user in everyone],
        [_group(group, groups.get(group.gid, group.name), called) for group in accounts.groups],
        accounts.source,
        accounts.first_person,
        logins,
        accounts.unknown,
        [called[user.name] for user in everyone if accounts.unsure(user)],
    )


def _user(user: User, name: str) -> User:
    return user._replace(name=name)


def _group(group: Group, name: str, called: Mapping[str, str]) -> Group:
    return group._replace(name=name, members=tuple(called.get(one, one) for one in group.members))
