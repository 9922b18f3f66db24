"""From a word for somebody to the principal that is meant, and from a word for a right, or several, to these."""

import re
from collections.abc import Iterable

from fiat.core.errors import AccountNotKnown, UnknownAccount
from fiat.core.model import principals
from fiat.core.model import right as rights
from fiat.core.model.host import Host
from fiat.core.model.posture import Kind
from fiat.core.model.principals import Principal
from fiat.core.model.right import Right, right_named
from fiat.core.text import LARGEST, id_number, near, quoted, shortened

Asked = tuple[Right, ...]
"""One thing that was asked for: the right itself; or for the letter x those of which one means something there."""

_X: Asked = (rights.EXECUTE, rights.TRAVERSE)
_LETTERS: dict[str, Asked] = {"r": (rights.READ,), "w": (rights.WRITE,), "x": _X}

LETTERS = "r, w and x stand for read, write, and execute or traverse"


def parse_rights(words: Iterable[str]) -> tuple[Asked, ...]:
    """What ``words`` ask for, each thing once; :class:`NotationError` for a word that is no right."""
    found: dict[Asked, None] = {}
    for word in words:
        for part in word.split(","):
            if re.fullmatch("[rwx]{1,3}", part):
                found |= {_LETTERS[letter]: None for letter in part}
            else:
                found[(right_named(part.strip()),)] = None
    return tuple(found)


def on_kind(asked: Asked, kind: Kind | None) -> Right:
    """The one right that is meant on an object of this kind: x is traverse on a directory, else execute."""
    if len(asked) == 1:
        return asked[0]
    return next((one for one in asked if kind is not None and one.applies(kind)), asked[0])


FORMS = "a user name, uid:NUMBER, group:NAME, pid:NUMBER, anyone-else or self"


def parse(word: str, host: Host) -> Principal:
    """The principal for ``word``: one of :data:`FORMS`; ``user:NAME`` for a user of such a name. A name that only a
    group has means the group.

    Raises :class:`UnknownAccount` that names the word.
    """
    accounts = host.accounts
    kind, colon, rest = word.partition(":")
    if colon and kind == "uid":
        uid = _number(rest, word)
        account = accounts.user_numbered(uid)
        return principals.of_account(account, accounts) if account else principals.of_number(uid, accounts)
    if colon and kind == "group":
        gid = accounts.group_id(rest)
        group = accounts.group_numbered(gid)
        return principals.bare_group(gid, group.name if group else None)
    if colon and kind == "pid":
        return host.process(_number(rest, word))
    if word == "self":
        return host.actor()
    if word == "anyone-else":
        return principals.ANYONE_ELSE
    of_user = bool(colon) and kind == "user"
    name = rest if of_user else word
    account = accounts.user_named(name)
    if account is None and not of_user and means_group(name, host):
        gid = accounts.group_id(name)
        return principals.bare_group(gid, name)
    if account is None and not accounts.tells_all:
        raise AccountNotKnown(word, accounts.not_known(f"user called {quoted(name)}"))
    if account is None:
        hint = near(name, [user.name for user in accounts.users])
        if word.isdecimal():
            hint = f"; a number is written uid:{word}"
        raise UnknownAccount(word, f"no user is called {quoted(name)} in {accounts.source}{hint}; WHO is {FORMS}")
    return principals.of_account(account, accounts)


def means_group(word: str, host: Host) -> bool:
    """Whether ``word`` is no user's name, but that of a group, which is taken for it then."""
    return bool(word) and host.accounts.user_named(word) is None and host.accounts.group_named(word) is not None


def _number(digits: str, word: str) -> int:
    number = id_number(digits)
    if number is None:
        raise UnknownAccount(word, f"{shortened(digits)} in {shortened(word)} is no number from 0 to {LARGEST}")
    return number


def membership(word: str, host: Host) -> tuple[str, int]:
    """The user's name and the gid in ``USER:GROUP``; UnknownAccount names the part that is wrong."""
    user, colon, group = word.partition(":")
    if not (colon and user and group):
        raise UnknownAccount(word, f"{quoted(word)} is no membership; write USER:GROUP, such as surveyor:watch")
    accounts = host.accounts
    account = accounts.user_named(user) or accounts.user_numbered(accounts.user_id(user))
    if account is None:
        raise UnknownAccount(user, f"{quoted(user)} in {quoted(word)} has no account")
    return account.name, accounts.group_id(group)
