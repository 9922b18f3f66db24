"""Accounts files: the formats of passwd(5) and group(5)."""

from collections import Counter
from collections.abc import Iterable

from fiat.core.errors import SnapshotError
from fiat.core.model.accounts import FIRST_PERSON, Group, User
from fiat.core.text import id_number, quoted


def parse_passwd(text: str, source: str) -> list[User]:
    """The users in a passwd(5) file; :class:`SnapshotError` names the line at fault, such as one that is cut short."""
    users = []
    for number, fields in _lines(text):
        uid, gid = (id_number(field) for field in fields[2:4]) if len(fields) > 6 else (None, None)
        if uid is None or gid is None or not fields[0]:
            raise SnapshotError(
                f"line {number} of {source} is no passwd(5) line: name:password:uid:gid:comment:home:shell is"
            )
        users.append(User(fields[0], uid, gid, *fields[4:7]))
    expect_few_of_a_name(users, source)
    return users


_OF_A_NAME = 16


def expect_few_of_a_name(users: Iterable[User], source: str) -> None:
    """Raise :class:`SnapshotError` where one user is there very often: each would have all groups of that name."""
    for name, count in Counter(user.name for user in users).items():
        if count > _OF_A_NAME:
            raise SnapshotError(f"{source} has {count:,} users called {quoted(name)}; a name has one account")


def parse_group(text: str, source: str) -> list[Group]:
    """The groups in a group(5) file; :class:`SnapshotError` names the line at fault."""
    groups = []
    for number, fields in _lines(text):
        gid = id_number(fields[2]) if len(fields) == 4 else None
        if gid is None or not fields[0]:
            raise SnapshotError(f"line {number} of {source} is no group(5) line: name:password:gid:members is")
        members = fields[3].split(",")
        groups.append(Group(fields[0], gid, tuple(name.strip() for name in members if name.strip())))
    return groups


def parse_login_definitions(text: str) -> dict[str, str]:
    """The settings in a login.defs(5) file, by name; of several lines for one the last counts."""
    words = (line.partition("#")[0].strip().split(None, 1) for line in text.split("\n"))
    return {pair[0]: pair[1].strip().strip('"') for pair in words if len(pair) == 2}


def first_person(text: str) -> int:
    """UID_MIN of a login.defs(5) file: the lowest number that people's accounts have."""
    number = id_number(parse_login_definitions(text).get("UID_MIN", ""))
    return FIRST_PERSON if number is None else number


def _lines(text: str) -> Iterable[tuple[int, list[str]]]:
    for number, line in enumerate(text.split("\n"), 1):
        # "+" and "-" lines are switches for the name service, not accounts
        if line.strip() and line[0] not in "#+-":
            yield number, line.strip().split(":")
