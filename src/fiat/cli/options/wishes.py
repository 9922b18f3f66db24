"""The options of ``fiat set`` that say what is to be changed."""

import argparse
import errno

from fiat.core.change.wish import ListWish, Wish, parse_entries
from fiat.core.errors import NotationError, PathError
from fiat.core.model.accesslist import Entry, parse_entry, parse_permissions
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.mode import ModeChange, parse_change
from fiat.core.model.posture import Posture
from fiat.core.tree.route import walk


def add_wishes(parser: argparse.ArgumentParser) -> None:
    """The options for mode, ownership, lists, and another path's posture."""
    mode = parser.add_argument_group("mode")
    mode.add_argument("--mode", metavar="MODE", help="the mode: octal, or clauses such as g+w,o=")
    mode.add_argument("--file-mode", metavar="MODE", help="the mode of what is no directory")
    mode.add_argument("--dir-mode", metavar="MODE", help="the mode of directories")
    owner = parser.add_argument_group("ownership")
    owner.add_argument("--owner", metavar="USER", help="the owner, a name or a number")
    owner.add_argument("--group", metavar="GROUP", help="the group, a name or a number")
    for title, prefix, what in (("access list", "", "access "), ("what new files inherit", "default-", "default ")):
        group = parser.add_argument_group(title)
        group.add_argument(
            f"--{prefix}entry",
            action="append",
            default=[],
            metavar="ENTRY",
            help=f"add an entry to the {what}list, or replace it",
        )
        group.add_argument(
            f"--no-{prefix}entry",
            action="append",
            default=[],
            metavar="WHO",
            help="remove the entry for WHO: user:NAME or group:NAME",
        )
        group.add_argument(f"--{prefix}mask", metavar="RIGHTS", help=f"the mask of the {what}list, such as r-x")
        group.add_argument(
            f"--no-{prefix}list",
            action="store_true",
            help="remove the default list" if prefix else "remove the list; its group keeps what the mask left",
        )
    parser.add_argument("--like", metavar="PATH", help="everything as on PATH: owner, group, mode and lists")


def wish_of(args: argparse.Namespace, host: Host) -> Wish:
    """What the options ask for.

    Raises :class:`NotationError` or :class:`UnknownAccount` for a wrong word,
    :class:`PathError` where the path after ``--like`` cannot be looked at.
    """
    accounts = host.accounts
    wish = Wish(
        mode=_mode(args.mode),
        file_mode=_mode(args.file_mode),
        dir_mode=_mode(args.dir_mode),
        uid=None if args.owner is None else accounts.user_id(args.owner),
        gid=None if args.group is None else accounts.group_id(args.group),
        access=_list(args.entry, args.no_entry, args.mask, args.no_list, accounts),
        default=_list(args.default_entry, args.no_default_entry, args.default_mask, args.no_default_list, accounts),
        like=None if args.like is None else _posture_of(host, args.like),
    )
    if wish == Wish():
        raise NotationError("", "what shall be set? --mode, --owner, --group, --entry and others say it; see --help")
    return wish


def _mode(word: str | None) -> ModeChange | None:
    return None if word is None else parse_change(word)


def _list(entries: list[str], no_entries: list[str], mask: str | None, drop: bool, accounts: Accounts) -> ListWish:
    return ListWish(
        parse_entries(entries, accounts.user_id, accounts.group_id),
        tuple(_who(word, accounts) for word in no_entries),
        None if mask is None else parse_permissions(mask),
        drop,
    )


def _who(word: str, accounts: Accounts) -> Entry:
    """The entry that is for ``word``: an entry without its permissions, though they may stand there."""
    return parse_entry(word if word.count(":") > 1 else f"{word}:-", accounts.user_id, accounts.group_id)


def _posture_of(host: Host, path: str) -> Posture:
    route = walk(host, path) if path else None
    if route is None or route.end is None:
        raise PathError(path, route.errno if route else errno.ENOENT)
    return route.end.posture
