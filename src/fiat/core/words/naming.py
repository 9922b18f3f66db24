"""What users, groups, principals and entries are called: by name where there is one, by number where there is none."""

from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.mode import permission_letters
from fiat.core.model.principals import Principal
from fiat.core.text import visible


def user(uid: int, accounts: Accounts) -> str:
    """``keeper``, or ``number 7188``."""
    return _name(accounts.user_numbered(uid)) or f"number {uid}"


def group(gid: int, accounts: Accounts) -> str:
    """``watch``, or ``number 7299``."""
    return _name(accounts.group_numbered(gid)) or f"number {gid}"


def user_with_number(uid: int, accounts: Accounts) -> str:
    """``keeper (7101)``, or ``7188 (no account)``."""
    name = _name(accounts.user_numbered(uid))
    return f"{name} ({uid})" if name else f"{uid} (no account)"


def group_with_number(gid: int, accounts: Accounts) -> str:
    """``watch (7201)``, or ``7299 (no group of this number)``."""
    name = _name(accounts.group_numbered(gid))
    return f"{name} ({gid})" if name else f"{gid} (no group of this number)"


def user_or_number(uid: int, accounts: Accounts) -> str:
    """``keeper``, or ``7188``: for a column of its own."""
    return _name(accounts.user_numbered(uid)) or str(uid)


def group_or_number(gid: int, accounts: Accounts) -> str:
    """``watch``, or ``7299``: for a column of its own."""
    return _name(accounts.group_numbered(gid)) or str(gid)


def _name(found: User | Group | None) -> str:
    return "" if found is None else visible(found.name)


def entry(named: Entry, accounts: Accounts) -> str:
    """An entry in long text form with a name for its number: ``user:auditor:r--``."""
    if named.id is None:
        return named.text()
    kind, name = ("user", user_or_number) if named.tag is Tag.NAMED_USER else ("group", group_or_number)
    return f"{kind}:{name(named.id, accounts)}:{permission_letters(named.permissions)}"


# --- principals ------------------------------------------------------------------------


def principal(who: Principal) -> str:
    """Who, for a sentence: ``surveyor``, ``uid 7188``, ``a member of watch alone``, ``process 812 (tidefeed)``."""
    if who.kind == "group":
        return f"a member of {group_of(who)} alone"
    if who.kind == "anyone-else":
        return "anyone else"
    name = visible(who.name) if who.name is not None else f"uid {who.uid}"
    return f"process {who.pid} ({name})" if who.kind == "process" else name


def group_of(who: Principal) -> str:
    """The group of a bare group: ``watch``, or ``7299``."""
    (gid,) = who.gids
    return visible(who.name) if who.name is not None else str(gid)


def word_for(who: Principal) -> str:
    """Who, as a word that a command line takes: ``surveyor``, ``uid:7188``, ``group:watch``; not made harmless."""
    if who.kind == "group":
        (gid,) = who.gids
        return f"group:{gid if who.name is None else who.name}"
    if who.kind == "anyone-else":
        return "anyone-else"
    if who.kind == "process":
        return f"pid:{who.pid}"
    return f"uid:{who.uid}" if who.name is None else who.name


def from_word(word: str) -> str:
    """The same as :func:`principal` says, of a word that :func:`word_for` made."""
    kind, colon, rest = word.partition(":")
    if colon and kind == "uid":
        return f"uid {rest}"
    if colon and kind == "pid":
        return f"process {rest}"
    if colon and kind == "group":
        return f"a member of {visible(rest)} alone"
    return "anyone else" if word == "anyone-else" else visible(word)
