"""What accounts and entries are called in messages: by name where there is one."""

from collections.abc import Iterable

from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import permission_letters
from fiat.core.text import visible


def user(uid: int, accounts: Accounts) -> str:
    """``keeper``, or ``number 7188``."""
    found = accounts.user_numbered(uid)
    return visible(found.name) if found else f"number {uid}"


def group(gid: int, accounts: Accounts) -> str:
    """``watch``, or ``number 7299``."""
    found = accounts.group_numbered(gid)
    return visible(found.name) if found else f"number {gid}"


def entry(named: Entry, accounts: Accounts) -> str:
    """An entry in long text form with a name for its number: ``user:auditor:r--``."""
    if named.id is None:
        return named.text()
    if named.tag is Tag.NAMED_USER:
        return f"user:{user(named.id, accounts).removeprefix('number ')}:{permission_letters(named.permissions)}"
    return f"group:{group(named.id, accounts).removeprefix('number ')}:{permission_letters(named.permissions)}"


def joined(words: Iterable[str]) -> str:
    """``a``, ``a and b``, ``a, b and c``."""
    given = list(words)
    if len(given) < 2:
        return "".join(given)
    return f"{', '.join(given[:-1])} and {given[-1]}"
