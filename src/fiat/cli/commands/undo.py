"""Put back what a run of fiat set changed: mode, owner, group, both lists, and the
special bits and file capabilities that the kernel cleared.

Without N, the latest run that was not put back yet; fiat history lists them. A path
that someone else changed since, or that is another file now, is left alone and
named; the rest is put back. An undo is a run of its own, and can be undone.

Setuid, setgid and capabilities come back only on contents that nobody but root and the
owner could have written to since; else they are left off and named: look at the file first.

Without an option that chooses runs it is one run; with --last, --run, --since, --by or
--path all of those that are meant and were not put back yet, as one. fiat undo 3 is run
3; fiat undo --last 3 the last three. --since takes only your own runs: those of the login
that is behind this one, whatever user it has become; --by everyone takes all."""

import argparse

from fiat.app import undo
from fiat.app.past import History, run_number
from fiat.app.status import ExitStatus
from fiat.app.undo import Lock, RunChoice, Undoing, UndoTerms
from fiat.cli.options.common import add_common, host_of, not_with, output_of
from fiat.cli.options.histories import add_history, command_words, count_of_runs, history_of, waiting
from fiat.cli.progress import Progress
from fiat.core.errors import HistoryError, NotationError
from fiat.render.output import Output
from fiat.render.undo import UndoView

EXAMPLES: tuple[tuple[str, str], ...] = ()


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat undo``."""
    parser.add_argument("run", nargs="?", metavar="N", help="the run to put back")
    several = parser.add_argument_group("several runs as one, each path as it was before the first of them")
    several.add_argument("--run", dest="runs", metavar="A..B", help="these runs; 12.. is 12 and all later ones")
    several.add_argument("--last", type=count_of_runs, metavar="COUNT", help="the last so many")
    several.add_argument("--since", metavar="TIME", help="those that began since then: 5m, 07:09, today, 'monday 9:30'")
    several.add_argument("--by", metavar="WHO", help="whose they are: a user, self or everyone")
    several.add_argument("--path", metavar="PATH", help="just what they changed at and below PATH")
    parser.add_argument("--even-if-changed", action="store_true", help="what others have changed since, too")
    parser.add_argument(
        "--accept",
        action="append",
        default=[],
        choices=("privilege",),
        metavar="privilege",
        help="setuid, setgid and capabilities on what others could have written to since, too",
    )
    parser.add_argument("-n", "--preview", action="store_true", help="show what would be put back, and change nothing")
    add_history(parser)
    parser.add_argument(
        "--no-history", action="store_true", help="put back without writing that down, as on a full disk"
    )
    add_common(parser)


def run(args: argparse.Namespace) -> int:
    """Put back the run, or the runs, that were named, or the newest; the exit status."""
    if args.snapshot is not None:
        raise NotationError("--from", "a snapshot was never changed, so there is nothing to undo in it")
    output = output_of("undo", args, changes=True)
    host = host_of(args)
    history = history_of(args)
    choosing = args.runs, args.since, args.path, args.last, args.by
    chosen = any(one is not None for one in choosing)  # an empty word is one that was meant to be something
    not_with("N", args.run, "--run, --last, --since, --by and --path", chosen, "they choose the runs")
    number: int | RunChoice | None = None if args.run is None else run_number(args.run)
    if chosen:
        from fiat.app.whichruns import which_runs  # and what reads times

        number = which_runs(host, history, *choosing)
    despite = UndoTerms(args.even_if_changed, bool(args.accept))
    try:
        with undo.undoing_alone(host, history, number, waiting(output), _lock(args), despite=despite) as found:
            if args.preview:
                for find in found.finds:
                    if find.problem is not None:
                        output.problem(find.problem)
            else:
                found = _put_back(found, history, args, output)
    except HistoryError as error:
        helps = error.only_to_write and not (args.preview or args.no_history)
        so = ", and --no-history puts back without writing that down" if helps else ""
        output.unusable(history.place, error, f"; nothing was changed{so}")
        return output.finish(ExitStatus.GUARDED)
    output.add(UndoView(found, args.history), count=len(found.finds))
    return output.finish()


def _put_back(found: Undoing, history: History, args: argparse.Namespace, output: Output) -> Undoing:
    with Progress(output.shows_progress, "put back", len(found.finds)) as progress:
        found = undo.put_back(
            found,
            history,
            command_words(),
            record=not args.no_history,
            problem=output.problem,
            progress=progress.report,
        )
    result = found.result
    if result is not None and result.unfinished is not None:
        output.complain(f"run {result.number} can be undone, but {result.unfinished}")
    return found


def _lock(args: argparse.Namespace) -> Lock:
    """A preview changes nothing; and without a history, where its folder cannot be written to, no lock can be had."""
    if args.preview:
        return Lock.NONE
    return Lock.WHERE_POSSIBLE if args.no_history else Lock.NEEDED
