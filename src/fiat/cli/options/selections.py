"""The options that choose among the objects of a tree."""

import argparse

from fiat.app.selections import selection
from fiat.core.model.accounts import Accounts
from fiat.core.words.selection import WORDS as WITH_WORDS
from fiat.core.words.selection import Selection


def add_selection(parser: argparse._ActionsContainer) -> None:
    """What is meant: by kind, name, owner, group and posture, and how far."""
    add_choice(parser)
    parser.add_argument("--across-mounts", action="store_true", help="enter other file systems mounted in the tree")


def add_choice(parser: argparse._ActionsContainer) -> None:
    """What is meant: by kind, name, owner, group and posture."""
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
        help="only what has these bits (o+w, u+s, 4000), or: " + ", ".join((*WITH_WORDS, "entry-for:NAME")),
    )
    parser.add_argument(
        "--with-any", action="append", default=[], metavar="WHAT", help="only what has one of these: setuid,setgid"
    )
    parser.add_argument(
        "--without", action="append", default=[], metavar="WHAT", help="only what has none of these: sticky"
    )


def selected(args: argparse.Namespace, accounts: Accounts) -> Selection:
    """The selection that the parsed options make, by the accounts of the host."""
    return selection(
        accounts,
        only=args.only,
        name=args.name,
        owned_by=args.owned_by,
        in_group=args.in_group,
        having=args.having,
        any_of=args.with_any,
        none_of=args.without,
    )
