"""What ``fiat let`` and ``fiat bar`` have in common: their options, and what they do."""

import argparse
from contextlib import ExitStack

from fiat.app import change
from fiat.app.change import GUARDS
from fiat.app.hosts import open_host
from fiat.app.let import MEANS, How, Meant, meant, planned
from fiat.app.status import Status
from fiat.app.text import HistoryError, NotationError
from fiat.cli.options.common import add_common, output_of, same_host
from fiat.cli.options.histories import add_history, command_words, history_of, waiting
from fiat.cli.options.numbers import rank_of_way
from fiat.cli.options.together import not_with
from fiat.cli.progress import Progress
from fiat.render.output import Output
from fiat.render.plan import PlanView
from fiat.render.ways import WaysView


def add_meaning(parser: argparse.ArgumentParser) -> None:
    """Who, what and where; which ways; and carrying one out."""
    parser.add_argument("who", metavar="WHO", help="keeper, group:watch, anyone-else; several with commas")
    parser.add_argument("right", metavar="RIGHT", help="read, write, rw, delete …; several with commas")
    parser.add_argument("paths", nargs="+", metavar="PATH", help="where")
    parser.add_argument("--by", action="append", default=[], metavar="MEANS", help="only by this: " + ", ".join(MEANS))
    parser.add_argument("--spare", action="append", default=[], metavar="WHO", help="nobody of these gains or loses")
    parser.add_argument("--all", action="store_true", help="every way, not the best five")
    doing = parser.add_mutually_exclusive_group()
    doing.add_argument("--do", nargs="?", const=1, type=rank_of_way, metavar="N", help="carry out way N, by default 1")
    doing.add_argument("--preview", action="store_true", help="show what the best way would do, and change nothing")
    parser.add_argument(
        "--accept", action="append", default=[], choices=GUARDS, metavar="GUARD", help="do it although GUARD objects"
    )
    add_history(parser, without=True)
    add_common(parser)


def run_meaning(command: str, args: argparse.Namespace, *, gives: bool) -> int:
    """Find the ways; show them, or carry one out."""
    output = output_of(command, args, changes=args.do is not None)
    host = open_host(args.snapshot, args.accounts)
    if args.snapshot is not None and args.do is not None:
        raise NotationError("--from", "a snapshot cannot be changed; --preview shows what the change would do")
    not_with("--history", args.history, "--no-history", args.no_history, "there is no history then")
    how = How(tuple(args.by), tuple(args.spare))
    with Progress(output.shows_progress) as progress:
        found = list(
            meant(
                host,
                args.who,
                args.right,
                args.paths,
                how,
                gives=gives,
                problem=output.problem,
                progress=progress.report,
            )
        )
    for one in found:
        output.caveat(one.caveats)
        if args.do is None and not args.preview:
            output.add(WaysView(one, same_host(args), every=args.all))
        elif one.found.already or not one.found.ways:
            output.add(WaysView(one, same_host(args)))
        elif len(found) > 1:
            raise NotationError("--do", "--do and --preview take one WHO, one RIGHT and one PATH at a time")
        else:
            return _carry_out(one, args, output)
        if not (one.found.already or one.found.ways):
            output.status = Status.NO
    return output.finish()


def _carry_out(one: Meant, args: argparse.Namespace, output: Output) -> int:
    ways = one.found.ways
    rank = args.do or ways.index(one.best) + 1 if one.best is not None else 1
    if rank > len(ways):
        raise NotationError(str(rank), f"there is no way {rank}; they go from 1 to {len(ways)}")
    way = ways[rank - 1]
    if way.membership is not None:
        user, _ = way.membership
        raise NotationError(
            str(rank), f"way {rank} is a membership of {user}, which whoever keeps the accounts changes"
        )
    plan = planned(one, way)
    guards = plan.refused_by(args.accept)
    result = unusable = None
    history = None if args.no_history or args.preview else history_of(args)
    with ExitStack() as held:
        if not args.preview and not guards:
            try:
                if history is not None:
                    paths = [path for path, _ in way.steps]
                    held.enter_context(
                        change.alone(one.host, history, paths, change.How(link_itself=True), waiting(output))
                    )
                result = change.apply(plan, history, command_words(), problem=output.problem)
            except HistoryError as error:
                unusable = error
    if unusable is not None and history is not None:
        output.unusable(history.place, unusable, "; nothing was changed, and --no-history changes without it")
        return output.finish(Status.GUARDED)
    if guards and not args.preview:
        output.refuse(guards)
    view = PlanView(
        plan,
        preview=args.preview,
        guards=guards,
        result=result,
        failed=output.has_problems,
        history=args.history,
    )
    output.add(view, count=view.meant)
    return output.finish(Status.GUARDED if guards else Status.DONE)
