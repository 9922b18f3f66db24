"""What is to be changed, from the words of a command line."""

from collections.abc import Iterable

from fiat.core.errors import NotationError, PathError
from fiat.core.model.accesslist import Entry
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.mode import ModeChange, parse_change
from fiat.core.model.posture import Posture
from fiat.core.model.wish import ListWish, Wish
from fiat.core.tree.walk import walk
from fiat.core.words.entries import parse_entries, parse_entry, parse_permissions

__all__ = ["Host", "Wish", "list_wish", "wish"]


def list_wish(
    accounts: Accounts,
    *,
    entries: Iterable[str] = (),
    no_entries: Iterable[str] = (),
    mask: str | None = None,
    drop: bool = False,
) -> ListWish:
    """What is to become of a list; entries in text form, those to remove as ``user:NAME`` or ``group:NAME``."""
    return ListWish(
        parse_entries(entries, accounts.user_id, accounts.group_id),
        tuple(_whom(word, accounts) for word in no_entries),
        None if mask is None else parse_permissions(mask),
        drop,
    )


def wish(
    host: Host,
    *,
    mode: str | None = None,
    file_mode: str | None = None,
    dir_mode: str | None = None,
    owner: str | None = None,
    group: str | None = None,
    access: ListWish = ListWish(),  # noqa: B008
    default: ListWish = ListWish(),  # noqa: B008
    like: str | None = None,
) -> Wish:
    """What is to be changed.

    Modes are octal or clauses, accounts names or numbers. Raises
    :class:`NotationError` or :class:`UnknownAccount` for a wrong word,
    :class:`PathError` where the path ``like`` cannot be looked at.
    """
    accounts = host.accounts
    found = Wish(
        mode=_mode(mode),
        file_mode=_mode(file_mode),
        dir_mode=_mode(dir_mode),
        uid=None if owner is None else accounts.user_id(owner),
        gid=None if group is None else accounts.group_id(group),
        access=access,
        default=default,
        like=None if like is None else _posture_of(host, like),
    )
    if found == Wish():
        raise NotationError("", "what shall be set? --mode, --owner, --group, --entry and others say it; see --help")
    return found


def _mode(word: str | None) -> ModeChange | None:
    return None if word is None else parse_change(word)


def _whom(word: str, accounts: Accounts) -> Entry:
    """The entry that is for ``word``: an entry without its permissions, though they may stand there."""
    return parse_entry(word if word.count(":") > 1 else f"{word}:-", accounts.user_id, accounts.group_id)


def _posture_of(host: Host, path: str) -> Posture:
    route = walk(host, path) if path else None
    if route is None or route.end is None:
        raise PathError(path, route.errno if route else 2)
    return route.end.posture
