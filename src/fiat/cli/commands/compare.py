"""Say what differs between two states: who gained and who lost which right, and by which
change; what was changed, moved, replaced, is gone and is new; accounts and mounts.

A and B are snapshots, folders of snapshots (fiat save --add), or live, which is this host
as it is. Of a folder it is the last snapshot, or with --at the last one up to that time:
'yesterday 18:00', monday, '3 hours ago', 2026-11-25T18:00. Gains and losses are counted
on what both have, by its path, or by its identity where it was moved.

Two fleets (folders with a folder of snapshots for each host) are compared host by host, or
with --between-hosts the hosts of one with each other.

Two directories of this host are compared with each other, by the names under them."""

import argparse

from fiat.app.compare import LIVE, are_trees, compared, open_state, trees_compared
from fiat.app.hosts import open_host
from fiat.app.status import ExitStatus
from fiat.app.unevaluated import of_host
from fiat.cli.options.common import (
    add_accounts_timeout,
    add_format,
    add_null,
    add_paths_behind,
    not_with,
    output_of,
    speaks_of,
)
from fiat.cli.options.fleet import add_fleet
from fiat.cli.options.selections import add_choice, selected
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError
from fiat.render.compare import ComparisonView
from fiat.render.output import Output

EXAMPLES = (
    ("what a week changed on the sample host", "fiat compare skerry skerry-later"),
    ("which hosts are not as most are", "fiat compare skerry-fleet --between-hosts /srv/skerry/keys"),
    ("who got in by it", "fiat compare skerry skerry-later /srv/skerry/gauge --gains-only"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat compare``."""
    parser.add_argument("before", metavar="A", help="the state before")
    parser.add_argument("after", nargs="?", metavar="B", help=f"the state after; {LIVE} is this host as it is")
    parser.add_argument("paths", nargs="*", default=[], metavar="PATH", help="just this tree")
    parser.add_argument("--at", metavar="TIME", help="of the folder A the last snapshot up to this time")
    parser.add_argument(
        "--between-hosts", action="store_true", help="which hosts of the folder A are not as most are; PATHs follow it"
    )
    parser.add_argument("--gains-only", action="store_true", help="just who gained what, and by what")
    parser.add_argument("--incomplete", action="store_true", help="use a snapshot that is cut short as far as it goes")
    add_paths_behind(parser)
    add_choice(parser)
    add_null(parser)
    add_format(parser, ("text", "json", "jsonl"))
    parser.add_argument("--accounts", metavar="DIR", help="take users and groups of both from DIR/passwd and DIR/group")
    add_accounts_timeout(parser)
    add_fleet(parser, at=False)


def run(args: argparse.Namespace) -> int:
    """Compare, and say what differs."""
    if args.between_hosts:
        from fiat.cli.betweenhosts import run as between_hosts

        return between_hosts(args)
    if args.after is None:
        raise NotationError("B", f"compare with what? Give B, a snapshot or {LIVE}; or --between-hosts for a fleet")
    output = output_of("compare", args)
    if are_trees(args.before, args.after):
        return _trees(args, output)
    before, after = (
        open_state(word, at, accounts=args.accounts, incomplete=args.incomplete, accounts_timeout=args.accounts_timeout)
        for word, at in ((args.before, args.at), (args.after, None))
    )
    speaks_of(args, before.host, after.host)
    if args.collected is not None:
        args.collected.speaks_of(after.host)
    with Progress(output.shows_progress) as progress:
        found = compared(
            before,
            after,
            args.paths,
            selected(args, after.host.accounts),
            problem=output.problem,
            progress=progress.report,
        )
    if found is None:
        return output.finish()
    differs = bool(found.effects.gains) if args.gains_only else found.differs
    output.status = ExitStatus.NO if differs else ExitStatus.DONE  # known before a reader may have gone
    output.only_what_is_wrong(wrong=differs)
    output.add(ComparisonView(found, before, after, args.paths, gains_only=args.gains_only, with_paths=args.with_paths))
    output.caveat(of_host(before.host))
    output.caveat(of_host(after.host))
    return output.finish()


def _trees(args: argparse.Namespace, output: Output) -> int:
    from fiat.render.comparetrees import TreesView

    for option, given in (("PATH", args.paths), ("--at", args.at), ("--incomplete", args.incomplete)):
        not_with(option, given, "two directories", True, "these are compared as they are, with all under them")
    host = open_host(None, args.accounts, accounts_timeout=args.accounts_timeout)
    speaks_of(args, host)
    with Progress(output.shows_progress) as progress:
        found = trees_compared(
            host,
            args.before,
            args.after,
            selected(args, host.accounts),
            problem=output.problem,
            progress=progress.report,
        )
    output.status = ExitStatus.NO if found.differs else ExitStatus.DONE
    output.only_what_is_wrong(wrong=found.differs)
    output.add(TreesView(found, host.accounts, gains_only=args.gains_only, with_paths=args.with_paths))
    output.caveat(of_host(host))
    return output.finish()
