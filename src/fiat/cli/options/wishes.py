"""The options of ``fiat set`` that say what is to be changed."""

import argparse
import re

from fiat.app.wishes import colons_among, list_wish, mode_among, wish
from fiat.core.model.host import Host
from fiat.core.model.posture import FLAGS
from fiat.core.model.wish import Wish


def add_wishes(parser: argparse.ArgumentParser) -> None:
    """The options for mode, ownership, lists, and another path's posture."""
    mode = parser.add_argument_group("mode and flags")
    mode.add_argument("--mode", metavar="MODE", help="the mode: octal, letters, or clauses such as g+w,o=")
    mode.add_argument("--file-mode", metavar="MODE", help="the mode of what is no directory")
    mode.add_argument("--dir-mode", metavar="MODE", help="the mode of directories")
    for option, what in (("--flag", "set"), ("--no-flag", "clear")):
        mode.add_argument(
            option,
            action="append",
            default=[],
            choices=FLAGS,
            metavar="FLAG",
            help=f"{what} immutable or append-only",
        )
    owner = parser.add_argument_group("ownership")
    owner.add_argument("--owner", metavar="USER", help="the owner: a name or number; or USER:GROUP, :GROUP")
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
            help="remove that for user:NAME, group:NAME or NAME",
        )
        group.add_argument(f"--{prefix}mask", metavar="RIGHTS", help=f"the mask of the {what}list, such as r-x")
        group.add_argument(
            f"--no-{prefix}list",
            action="store_true",
            help="remove the default list" if prefix else "remove the list; its group keeps what the mask left",
        )
    parser.add_argument("--like", metavar="PATH", help="all as PATH has it; with --below name by name")


def wish_of(args: argparse.Namespace, host: Host) -> Wish:
    """What the options ask for."""
    accounts = host.accounts
    return wish(
        host,
        mode=args.mode,
        file_mode=args.file_mode,
        dir_mode=args.dir_mode,
        owner=args.owner,
        group=args.group,
        access=list_wish(accounts, entries=args.entry, no_entries=args.no_entry, mask=args.mask, drop=args.no_list),
        default=list_wish(
            accounts,
            entries=args.default_entry,
            no_entries=args.no_default_entry,
            mask=args.default_mask,
            drop=args.no_default_list,
        ),
        like=args.like,
        flags=args.flag,
        no_flags=args.no_flag,
    )


def lists_asked_for(args: argparse.Namespace) -> bool:
    """Whether anything is asked for of the access list or the default list."""
    lists = (args.entry, args.no_entry, args.mask, args.no_list)
    defaults = (args.default_entry, args.no_default_entry, args.default_mask, args.no_default_list)
    return any((*lists, *defaults))


def wish_without_option(args: argparse.Namespace, host: Host) -> None:
    """Take a mode, an owner and group, or an entry among the paths for what is asked for, where nothing else is."""
    asked = (args.mode, args.file_mode, args.dir_mode, args.owner, args.group, args.like)
    words = [word[1:] if re.fullmatch(_DASHED, word) else word for word in args.paths]
    alone = not (any(one is not None for one in asked) or lists_asked_for(args) or args.flag or args.no_flag)
    args.paths, mode = mode_among(host, words, alone=alone)
    args.mode = mode if alone else args.mode
    if not alone or args.mode is not None:
        return
    args.paths, word = colons_among(host, args.paths)
    if word is not None and word.count(":") == 1:  # owner and group
        args.owner = word
    elif word is not None:
        args.entry = [word]


_DASHED = r" -[-rwxsStT]{8,9}\+?"
_TAKE_RIGHTS = ("--mode", "--file-mode", "--dir-mode", "--mask", "--default-mask")


def tied(arguments: list[str]) -> list[str]:
    """The arguments with each mode or mask that begins with a dash tied to its option: it is none itself."""
    found: list[str] = []
    for word in arguments:
        rights = word == "---" or (word.startswith("-") and not word.startswith("--"))
        letters = re.fullmatch(_DASHED, f" {word}") is not None
        if (rights or letters) and found and found[-1] in _TAKE_RIGHTS:
            found[-1] += f"={word}"
        elif letters:
            found.append(f" {word}")  # the space keeps the parser from taking it for an option
        else:
            found.append(word)
    return found
