"""What fiat set and fiat undo have changed: each run with when, who, the command, how
many paths, and what has become of it; or one run in detail.

A run is running, done, partial (some paths failed, or it was stopped), or undone
(put back since). fiat undo N puts run N back."""

import argparse

from fiat.app import past
from fiat.app.hosts import open_host
from fiat.app.text import NotationError, bounded, shortened
from fiat.cli.options.common import add_common
from fiat.cli.options.histories import add_history, history_of
from fiat.render.output import Output
from fiat.render.past import RunsView, RunView

EXAMPLES: tuple[tuple[str, str], ...] = ()


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat history``."""
    parser.add_argument("run", nargs="?", metavar="N", help="one run in detail")
    parser.add_argument("--last", type=_count, metavar="COUNT", help="only the latest COUNT runs")
    add_history(parser)
    add_common(parser, ("text", "json", "csv"))


def run(args: argparse.Namespace) -> int:
    """List the runs, or show one."""
    if args.snapshot is not None:
        raise NotationError("--from", "a snapshot was never changed, so it has no history")
    output = Output("history", args.format)
    history = history_of(args)
    if args.run is not None:
        found = history.run(past.run_number(args.run))
        accounts = open_host(None, args.accounts).accounts
        output.add(RunView(found, history.entries(found.number), accounts, args.history))
    else:
        output.add(RunsView(history.runs()[: args.last], history.place, args.history))
    return output.finish()


def _count(word: str) -> int:
    found = bounded(word, 10**9)
    if not found:
        raise argparse.ArgumentTypeError(f"{shortened(word)} is no count of runs; write a number from 1 up")
    return found
