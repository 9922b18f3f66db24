"""Wishes as the command lines that ask for them."""

from collections.abc import Iterable, Iterator

from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import permission_letters
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.text import shell_word


def set_command(path: str, wish: Wish, accounts: Accounts) -> str:
    """``fiat set PATH`` with the options for ``wish``, as a shell reads it; another path's posture is no option."""
    return set_command_for([path], wish, accounts)


def set_command_for(paths: Iterable[str], wish: Wish, accounts: Accounts, how: Iterable[str] = ()) -> str:
    """``fiat set`` with the options for ``wish``, for several paths, or for what ``how`` chooses in their trees."""
    return " ".join(["fiat set", *map(shell_word, paths), *how, *_options(wish, accounts)])


def _options(wish: Wish, accounts: Accounts) -> Iterator[str]:
    for option, change in (("--mode", wish.mode), ("--file-mode", wish.file_mode), ("--dir-mode", wish.dir_mode)):
        if change is not None:
            separator = "=" if change.text.startswith("-") else " "
            yield f"{option}{separator}{shell_word(change.text)}"
    if wish.uid is not None:
        yield f"--owner {shell_word(_user(wish.uid, accounts))}"
    if wish.gid is not None:
        yield f"--group {shell_word(_group(wish.gid, accounts))}"
    yield from (f"--flag {flag}" for flag in wish.flags)
    yield from (f"--no-flag {flag}" for flag in wish.no_flags)
    yield from _list_options(wish.access, "", accounts)
    yield from _list_options(wish.default, "default-", accounts)


def _list_options(wish: ListWish, prefix: str, accounts: Accounts) -> Iterator[str]:
    if wish.drop:
        yield f"--no-{prefix}list"
    for one in wish.entries:
        yield f"--{prefix}entry {shell_word(_entry(one, accounts))}"
    for removed in wish.remove:
        yield f"--no-{prefix}entry {shell_word(_whom(removed, accounts))}"
    if wish.mask is not None:
        yield f"--{prefix}mask={permission_letters(wish.mask)}"


def _entry(wish: EntryWish, accounts: Accounts) -> str:
    letters = permission_letters(wish.entry.permissions)
    if wish.execute_if_any:
        letters = f"{letters[:2]}X"
    return f"{_whom(wish.entry, accounts)}:{letters}"


def _whom(entry: Entry, accounts: Accounts) -> str:
    """``user:auditor``, ``group:``, ``mask:``: an entry without its permissions, names not made harmless."""
    kind = entry.text().partition(":")[0]
    if entry.id is None:
        return f"{kind}:"
    return f"{kind}:{(_user if entry.tag is Tag.NAMED_USER else _group)(entry.id, accounts)}"


def _user(uid: int, accounts: Accounts) -> str:
    found = accounts.user_numbered(uid)
    return str(uid) if found is None else found.name


def _group(gid: int, accounts: Accounts) -> str:
    found = accounts.group_numbered(gid)
    return str(gid) if found is None else found.name
