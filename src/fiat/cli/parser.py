"""Command-line parsing shared by all commands: one-line errors, common options."""

import argparse
import sys
from typing import NoReturn

from fiat.cli.status import Status
from fiat.core.model.accounts import Accounts
from fiat.core.text import visible
from fiat.core.words.selection import WORDS, Selection, with_words
from fiat.render.terminal import NARROW, width

SAMPLE = "skerry"


class Parser(argparse.ArgumentParser):
    """An argument parser whose errors are one line that names the word."""

    def __init__(self, **options: object) -> None:
        options.setdefault("formatter_class", _formatter)
        options.setdefault("allow_abbrev", False)
        super().__init__(**options)  # type: ignore[arg-type]

    def error(self, message: str) -> NoReturn:
        """Print one line and leave with the status for a wrong command line."""
        print(f"{self.prog}: {visible(message)}; {self.prog} --help explains it", file=sys.stderr)
        raise SystemExit(Status.WRONG_COMMAND_LINE)


def _formatter(prog: str) -> argparse.HelpFormatter:
    """A formatter that is told the width: asking for it itself, argparse loads a good deal for every command."""
    return argparse.RawDescriptionHelpFormatter(prog, width=min(width() or NARROW, 100) - 2)


def add_common(parser: argparse.ArgumentParser, formats: tuple[str, ...] = ("text", "json")) -> None:
    """The options that every command takes."""
    parser.add_argument(
        "--format", choices=formats, default="text", help="how the result is printed (text unless given)"
    )
    parser.add_argument(
        "--accounts",
        metavar="DIR",
        help="take users and groups from the files passwd and group in DIR, not from this host",
    )
    parser.add_argument(
        "--from",
        dest="snapshot",
        metavar="SNAPSHOT",
        help=f"ask about the host held in a snapshot file; {SAMPLE} is the sample host that comes with Fiat",
    )


def add_selection(parser: argparse._ActionsContainer) -> None:
    """The options that choose among the objects of a tree."""
    parser.add_argument("--only", choices=("files", "dirs"), help="only what is no directory, or only directories")
    parser.add_argument("--name", metavar="GLOB", help="only names that match, such as '*.csv'")
    parser.add_argument("--owned-by", metavar="USER", help="only what this user owns (a name or a number)")
    parser.add_argument("--in-group", metavar="GROUP", help="only what this group owns (a name or a number)")
    parser.add_argument(
        "--with",
        dest="having",
        action="append",
        default=[],
        metavar="WHAT",
        help="only what has all these bits (o+w, u+s, 4000), or one of: " + ", ".join(WORDS),
    )
    parser.add_argument("--across-mounts", action="store_true", help="enter other file systems mounted in the tree")


def selection(args: argparse.Namespace, accounts: Accounts) -> Selection:
    """What the options of :func:`add_selection` choose."""
    bits, has = with_words(args.having)
    return Selection(
        only=args.only,
        name=args.name,
        uid=None if args.owned_by is None else accounts.user_id(args.owned_by),
        gid=None if args.in_group is None else accounts.group_id(args.in_group),
        bits=bits,
        has=has,
    )
