"""What ``fiat let`` and ``fiat bar`` have in common: their options, and what they do."""

import argparse

from fiat.app import change
from fiat.app.let import COUNT_LIMIT, MEANS, LetOptions, WaysToGoals, meant, planned
from fiat.app.status import ExitStatus
from fiat.cli.options.carrying import add_acceptance, carry_out
from fiat.cli.options.common import (
    add_common,
    add_paths_behind,
    count_of_entries,
    host_of,
    not_with,
    output_of,
    rank_of_way,
    same_host,
    say_groups,
    trust_of,
)
from fiat.cli.options.histories import add_history
from fiat.cli.options.paths import add_paths
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError
from fiat.core.text import shell_word
from fiat.render.output import Output
from fiat.render.plan import PlanView
from fiat.render.ways import CarriedOutView, WaysView, first_lines


def add_meaning(parser: argparse.ArgumentParser) -> None:
    """Who, what and where; which ways; and carrying one out."""
    parser.add_argument("who", metavar="WHO", help="keeper, group:watch, anyone-else; several with commas")
    parser.add_argument("right", metavar="RIGHT", help="read, write, rw, delete …; several with commas")
    add_paths(parser, "where")
    parser.add_argument("--below", action="store_true", help="on PATH and all under it, each object by its own change")
    parser.add_argument("--and-new", action="store_true", help="on what is made there later too, by default lists")
    parser.add_argument("--by", action="append", default=[], metavar="MEANS", help="only by this: " + ", ".join(MEANS))
    parser.add_argument("--spare", action="append", default=[], metavar="WHO", help="nobody of these gains or loses")
    parser.add_argument(
        "--exact", action="store_true", help="of a group: members who would get more get entries of their own"
    )
    parser.add_argument(
        "--count-limit",
        type=count_of_entries,
        default=COUNT_LIMIT,
        metavar="N",
        help=f"count costs on about N entries below what is opened, then say at least (by default {COUNT_LIMIT:,})",
    )
    parser.add_argument("--cost-over", metavar="DIR", help="count the cost of a membership in this tree as well")
    parser.add_argument("--all", action="store_true", help="every way, not the best five")
    doing = parser.add_mutually_exclusive_group()
    doing.add_argument("--do", nargs="?", const=1, type=rank_of_way, metavar="N", help="carry out way N, by default 1")
    doing.add_argument(
        "-n", "--preview", action="store_true", help="show what the best way would do, and change nothing"
    )
    add_paths_behind(parser)
    add_acceptance(parser)
    add_history(parser, without=True)
    add_common(parser)
    parser.set_defaults(stop=False)


def run_meaning(command: str, args: argparse.Namespace, *, gives: bool) -> int:
    """Find the ways; show them, or carry one out."""
    output = output_of(command, args, changes=args.do is not None)
    host = host_of(args, trust_of(args, acts=args.do is not None))
    if args.snapshot is not None and args.do is not None:
        raise NotationError("--from", "a snapshot cannot be changed; --preview shows what the change would do")
    say_groups(args.who, host, output)
    not_with("--history", args.history, "--no-history", args.no_history, "there is no history then")
    how = LetOptions(
        args.below, tuple(args.by), tuple(args.spare), args.exact, args.and_new, args.count_limit, args.cost_over
    )
    with Progress(output.shows_progress) as progress:
        found = meant(
            host,
            args.who,
            args.right,
            args.paths,
            how,
            gives=gives,
            problem=output.problem,
            progress=progress.report,
            first=lambda steps: progress.note(first_lines(steps, host.accounts, same_host(args))),
        )
    if found is None:
        return output.finish()
    output.caveat(found.caveats)
    ways = WaysView(found, _command(command, args), same_host(args), every=args.all, paths=args.with_paths)
    if found.found.ways and (args.do is not None or args.preview):
        return _carry_out(found, ways, args, output)
    output.add(ways)
    return output.finish(ExitStatus.NO if found.found.why_not else ExitStatus.DONE)


def _command(command: str, args: argparse.Namespace) -> str:
    """The command line that asked, without what is only about how it is shown."""
    words = ["fiat", command, args.who, args.right, *args.paths]
    words += [word for word, given in (("--below", args.below), ("--and-new", args.and_new)) if given]
    words += [word for means in args.by for word in ("--by", means)]
    words += [word for who in args.spare for word in ("--spare", who)]
    words += ["--exact"] if args.exact else []
    return " ".join(map(shell_word, words))


def _carry_out(one: WaysToGoals, view: WaysView, args: argparse.Namespace, output: Output) -> int:
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
    far = change.ChangeOptions(below=way.tree, link_itself=True)
    paths = [target.asked for target in plan.targets]

    def shown(plan_view: PlanView) -> CarriedOutView:
        return CarriedOutView(view, rank, plan_view)

    return carry_out(one.host, paths, far, lambda: plan, args, output, shown)
