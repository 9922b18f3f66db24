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
from fiat.cli.options.common import add_common, add_null, goes_with, not_with, output_of
from fiat.cli.options.histories import add_history, count_of_runs, history_of
from fiat.core.errors import HistoryError, NotationError
from fiat.render.past import RunsView, RunView, VerifyView

EXAMPLES: tuple[tuple[str, str], ...] = ()


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat history``."""
    parser.add_argument("run", nargs="?", metavar="N", help="one run in detail")
    parser.add_argument("--verify", action="store_true", help="read all of it, and say what is not as it was written")
    parser.add_argument("--by", metavar="WHO", help="only runs of this user, or of self: of who had logged in")
    parser.add_argument("--since", metavar="TIME", help="only runs since then: 5m, 07:09, today, 'yesterday 18:00'")
    parser.add_argument("--last", type=count_of_runs, metavar="COUNT", help="only the latest COUNT runs")
    add_history(parser)
    add_null(parser)
    add_common(parser, ("text", "json", "csv"))


def run(args: argparse.Namespace) -> int:
    """List the runs, or show one."""
    if args.snapshot is not None:
        raise NotationError("--from", "a snapshot was never changed, so it has no history")
    choosing = (("--last", args.last), ("--by", args.by), ("--since", args.since))
    for option, given in (("N", args.run), *choosing):
        not_with("--verify", args.verify, option, given, "all of it is read")
        not_with("N", args.run if option != "N" else None, option, given, "it is one run")
    goes_with("--null", args.format == "null", "N: one run", args.run is not None)
    output = output_of("history", args)
    history = history_of(args)
    number = None if args.run is None else past.run_number(args.run)
    status = ExitStatus.DONE
    try:
        if args.verify:
            verified = VerifyView(history.runs(), history.verify(), history.place)
            output.only_what_is_wrong(wrong=bool(verified.damage))
            output.add(verified)
            status = ExitStatus.NO if verified.damage else ExitStatus.DONE
        elif number is not None:
            found, entries = past.run_of(history, number), history.entries(number)
            output.add(RunView(found, entries, open_host(None, args.accounts).accounts, args.history, history.runs()))
        else:
            every = past.runs_of(history)
            since = None if args.since is None else past.moment(args.since)
            by = None if args.by is None else past.actor_named(open_host(None, args.accounts), args.by, every)
            runs = past.runs_of(history, since=since, by=by, latest=args.last)
            output.add(RunsView(runs, history.damage(), history.place, args.history, every))
    except HistoryError as error:
        output.unusable(history.place, error)
        status = ExitStatus.IN_PART
    return output.finish(status)
