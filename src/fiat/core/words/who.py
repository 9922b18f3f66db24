"""From a word for somebody to the principal that is meant."""

from fiat.core.errors import UnknownAccount
from fiat.core.model import principals
from fiat.core.model.host import Host
from fiat.core.model.numbers import LARGEST, id_number
from fiat.core.model.principals import Principal
from fiat.core.text import near, quoted, shortened

FORMS = "a user name, uid:NUMBER, group:NAME, pid:NUMBER, anyone-else or self"


def parse(word: str, host: Host) -> Principal:
    """The principal for ``word``: one of :data:`FORMS`; ``user:NAME`` for a user of such a name.

    Raises :class:`UnknownAccount` that names the word.
    """
    accounts = host.accounts
    kind, colon, rest = word.partition(":")
    if colon and kind == "uid":
        uid = _number(rest, word)
        account = accounts.user_numbered(uid)
        return principals.user(account, accounts.gids_of(account)) if account else principals.unlisted_user(uid)
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
    name = rest if colon and kind == "user" else word
    account = accounts.user_named(name)
    if account is None:
        hint = near(name, [user.name for user in accounts.users])
        if word.isdecimal():
            hint = f"; a number is written uid:{word}"
        raise UnknownAccount(word, f"no user is called {quoted(name)} in {accounts.source}{hint}; WHO is {FORMS}")
    return principals.user(account, accounts.gids_of(account))


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
    account = accounts.user_numbered(accounts.user_id(user))
    if account is None:
        raise UnknownAccount(user, f"{quoted(user)} in {quoted(word)} has no account")
    return account.name, accounts.group_id(group)
