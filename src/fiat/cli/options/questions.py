"""The options of ``fiat who`` that say what is asked, and of whom."""

import argparse

from fiat.app.question import Question
from fiat.cli.options.common import add_paths_behind, process_number
from fiat.core.model.host import Host


def add_question(parser: argparse.ArgumentParser) -> None:
    """Add the options that say which rights are asked about, of whom, and what is supposed."""
    add_people(parser)
    parser.add_argument(
        "--but-not", action="append", default=[], metavar="WHO", help="with --below: only what WHO cannot, too"
    )
    add_memberships(parser)
    parser.add_argument("--if-gone", metavar="USER", help="what USER would leave behind, without the account")
    add_paths_behind(parser)


def add_people(parser: argparse.ArgumentParser) -> None:
    """Add the options that say which rights are asked about, and of whom."""
    parser.add_argument(
        "--can",
        action="append",
        default=[],
        metavar="RIGHT",
        help="ask about this right alone; r, w, x do, and several with commas",
    )
    parser.add_argument("--user", action="append", default=[], metavar="USER", help="only this user")
    parser.add_argument("--group", action="append", default=[], metavar="GROUP", help="only this group")
    parser.add_argument(
        "--pid", action="append", default=[], type=process_number, metavar="N", help="this running process, too"
    )
    parser.add_argument("--anyone-else", action="store_true", help="only whoever no entry and no group matches")


def add_memberships(parser: argparse.ArgumentParser) -> None:
    """Add the options that say what is supposed."""
    parser.add_argument(
        "--if-member", action="append", default=[], metavar="USER:GROUP", help="as if USER were in GROUP"
    )
    parser.add_argument(
        "--if-not-member", action="append", default=[], metavar="USER:GROUP", help="as if USER were not in GROUP"
    )


def question(args: argparse.Namespace, host: Host) -> Question:
    """The question that the parsed options ask of ``host``."""
    return Question(
        host,
        rights=args.can,
        users=args.user,
        groups=args.group,
        pids=args.pid,
        anyone_else=args.anyone_else,
        if_member=args.if_member,
        if_not_member=args.if_not_member,
        but_not=[word for words in getattr(args, "but_not", ()) for word in words.split(",")],
    )
