"""The options that say where the history is."""

import argparse
import sys

from fiat.app.past import History, open_history


def add_history(parser: argparse.ArgumentParser, *, without: bool = False) -> None:
    """Which history; or, where that makes sense, none."""
    parser.add_argument(
        "--history", metavar="FILE", help="the history of changes (root: /var/lib/fiat/history.db; others: their own)"
    )
    if without:
        parser.add_argument("--no-history", action="store_true", help="change without a history: fiat undo cannot help")


def history_of(args: argparse.Namespace) -> History:
    """The history that the command line names, or the usual one."""
    return open_history(args.history)


def command_words() -> tuple[str, ...]:
    """The words of this command line, as the history keeps them."""
    return ("fiat", *sys.argv[1:])
