"""What fiat set and fiat undo have changed: each run with when, who, the command, how
many paths, and what has become of it; or one run in detail.

A run is running, done, partial (some paths failed, or it was stopped), or undone
(put back since). fiat undo N puts run N back. A run that is not as it was written is
named and left out; --verify reads every entry of every run (exit status 1 where
anything is wrong)."""

import argparse

from fiat.app import past
from fiat.app.hosts import open_host
from fiat.app.status import ExitStatus
from fiat.cli.options.common import add_common, not_with, output_of
from fiat.cli.options.histories import add_history, history_of
from fiat.core.errors import HistoryError, NotationError
from fiat.core.text import bounded, shortened
from fiat.render.past import RunsView, RunView, VerifyView

EXAMPLES: tuple[tuple[str, str], ...] = ()


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat history``."""
    parser.add_argument("run", nargs="?", metavar="N", help="one run in detail")
    parser.add_argument("--verify", action="store_true", help="read all of it, and say what is not as it was written")
    parser.add_argument("--last", type=_count, metavar="COUNT", help="only the latest COUNT runs")
    add_history(parser)
    add_common(parser, ("text", "json", "csv"))


def run(args: argparse.Namespace) -> int:
    """List the runs, or show one."""
    if args.snapshot is not None:
        raise NotationError("--from", "a snapshot was never changed, so it has no history")
    for option, given in (("N", args.run), ("--last", args.last)):
        not_with("--verify", args.verify, option, given, "all of it is read")
    output = output_of("history", args)
    history = history_of(args)
    number = None if args.run is None else past.run_number(args.run)
    status = ExitStatus.DONE
    try:
        if args.verify:
            verified = VerifyView(history.runs(), history.verify(), history.place)
            output.add(verified)
            status = ExitStatus.NO if verified.damage else ExitStatus.DONE
        elif number is not None:
            found, entries = history.run(number), history.entries(number)
            output.add(RunView(found, entries, open_host(None, args.accounts).accounts, args.history, history.runs()))
        else:
            runs = history.runs()
            output.add(RunsView(runs[: args.last], history.damage(), history.place, args.history, runs))
    except HistoryError as error:
        output.unusable(history.place, error)
        status = ExitStatus.IN_PART
    return output.finish(status)


def _count(word: str) -> int:
    found = bounded(word, 10**9)
    if not found:
        raise argparse.ArgumentTypeError(f"{shortened(word)} is no count of runs; write a number from 1 up")
    return found
