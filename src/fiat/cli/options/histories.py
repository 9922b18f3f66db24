"""The options that say where the history is."""

import argparse
import sys
from collections.abc import Callable

from fiat.app.past import History, Run, open_history
from fiat.cli.options.common import settings_of
from fiat.core.text import bounded, shell_word, shortened
from fiat.render.output import Output


def add_history(parser: argparse.ArgumentParser, *, without: bool = False) -> None:
    """Which history; or, where that makes sense, none."""
    parser.add_argument(
        "--history",
        metavar="FILE",
        help="the history of changes, where nobody else can write",
    )
    if without:
        parser.add_argument("--no-history", action="store_true", help="change without a history: fiat undo cannot help")


def count_of_runs(word: str) -> int:
    """How many runs, as written."""
    found = bounded(word, 10**9)
    if not found:
        raise argparse.ArgumentTypeError(f"{shortened(word)} is no count of runs; write a number from 1 up")
    return found


def waiting(output: Output) -> Callable[[Run | None], None]:
    """What says, before others are waited for, who they are."""

    def tell(run: Run | None) -> None:
        who = "another run" if run is None else f"run {run.number} ({' '.join(map(shell_word, run.command))})"
        output.complain(f"waiting for {who}, which is changing some of this")

    return tell


def history_of(args: argparse.Namespace) -> History:
    """The history that the command line names, or the usual one."""
    return open_history(args.history or settings_of(args).history)


def command_words() -> tuple[str, ...]:
    """The words of this command line, as the history keeps them."""
    return ("fiat", *sys.argv[1:])
