"""Carrying out a plan, or showing it: what every command that plans does then."""

import argparse
from collections.abc import Callable, Sequence
from contextlib import ExitStack

from fiat.app import change
from fiat.app.change import GUARDS, ChangeOptions, Planned
from fiat.app.past import History
from fiat.app.running import RunResult
from fiat.app.status import ExitStatus
from fiat.cli.options.common import add_paths_behind, add_trust, not_with, trust_of
from fiat.cli.options.histories import add_history, command_words, history_of, waiting
from fiat.cli.progress import Progress
from fiat.core.errors import HistoryError
from fiat.core.model.host import Host
from fiat.render.model import Result as Shown
from fiat.render.output import Output
from fiat.render.plan import PlanView


def add_care(parser: argparse.ArgumentParser, *, flags: bool = False) -> None:
    """The options that say whether, and in spite of what, a plan is carried out; in spite of ``flags`` as well."""
    care = parser.add_argument_group("care")
    care.add_argument("-n", "--preview", action="store_true", help="show what would happen, and change nothing")
    add_acceptance(care)
    add_paths_behind(care)
    if flags:
        care.add_argument(
            "--through-flags", action="store_true", help="clear immutable or append-only, and set it after"
        )
        care.add_argument("--check", action="append", default=[], metavar="FILE", help="object where FILE's break")
    care.add_argument("--stop", action="store_true", help="stop at the first path that cannot be changed")
    add_history(parser, without=True)


def add_acceptance(parser: argparse._ActionsContainer) -> None:
    """The options that say which guards object in vain, and which files are followed all the same."""
    parser.add_argument(
        "--accept", action="append", default=[], choices=GUARDS, metavar="GUARD", help="do it although GUARD objects"
    )
    add_trust(parser)


def itself(view: PlanView) -> Shown:
    """Nothing is shown but the plan."""
    return view


def carry_out(
    host: Host,
    paths: Sequence[str],
    how: ChangeOptions,
    plan: Callable[[], Planned],
    args: argparse.Namespace,
    output: Output,
    shown: Callable[[PlanView], Shown] = itself,
) -> int:
    """Make the plan while nobody else changes what is at ``paths``; show it, and unless it is a preview, apply it."""
    not_with("--history", args.history, "--no-history", args.no_history, "there is no history then")
    history = None if args.no_history or args.preview else history_of(args)
    result = None
    with ExitStack() as held:
        unusable = _keep_others_off(held, host, history, paths, how, output)
        planned = plan()
        if getattr(args, "check", None):
            from fiat.app.check import guard

            guard(host, planned.plan, args.check, output.problem, trust_of(args, acts=not args.preview))
        guards = planned.refused_by(args.accept)
        if not args.preview and not guards and unusable is None:
            try:
                result = _apply(planned, history, args, output)
            except HistoryError as error:
                unusable = error
    if unusable is not None and history is not None:
        output.unusable(history.place, unusable, "; nothing was changed, and --no-history changes without it")
        if args.format == "text":
            return output.finish(ExitStatus.GUARDED)
    if guards and not args.preview:
        output.refuse(guards)
    view = PlanView(
        planned,
        preview=args.preview,
        guards=guards,
        result=result,
        failed=output.has_problems,
        history=args.history,
        paths=args.with_paths,
    )
    output.add(shown(view), count=view.meant)
    if args.preview and not guards:
        change.tell_refused(planned, output.problem, stop_at_first=args.stop)
    return output.finish(ExitStatus.GUARDED if guards or unusable else ExitStatus.DONE)


def _keep_others_off(
    held: ExitStack, host: Host, history: History | None, paths: Sequence[str], how: ChangeOptions, output: Output
) -> HistoryError | None:
    """Have nobody else who uses this history change the same meanwhile; why that cannot be had, if it cannot."""
    try:
        if history is not None:
            held.enter_context(change.alone(host, history, paths, how, waiting(output)))
    except HistoryError as error:
        return error
    return None


def _apply(planned: Planned, history: History | None, args: argparse.Namespace, output: Output) -> RunResult:
    """Write the plan down, and carry it out."""
    with Progress(output.shows_progress, "changed", planned.plan.change_count) as progress:
        result = change.apply(
            planned,
            history,
            command_words(),
            problem=output.problem,
            progress=progress.report,
            stop_at_first=args.stop,
        )
    if result.unfinished is not None:
        output.complain(f"run {result.number} can be undone, but {result.unfinished}")
    return result
