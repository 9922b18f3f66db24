"""Comparing the hosts of a fleet with each other."""

from __future__ import annotations

import argparse

from fiat.app.betweenhosts import compare_hosts
from fiat.app.fleet import fleet_in, joined_by
from fiat.app.fleetwork import engine_of
from fiat.app.status import ExitStatus
from fiat.cli.fleet import names_in
from fiat.cli.options.common import not_with, output_of
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError, PathError
from fiat.core.text import quoted, visible
from fiat.render.betweenhosts import BetweenHostsView
from fiat.render.wordsofhosts import WordsOfHosts


def run(args: argparse.Namespace) -> int:
    """Compare, and say which hosts deviate; the exit status is 1 where one does."""
    about = "--between-hosts"
    not_with(about, True, "--gains-only", args.gains_only, "it is about states, not about two times")
    not_with(about, True, "--paths", args.with_paths, "it is about states, not about gains and losses")
    not_with(about, True, "--accounts", args.accounts, "who is who on each host is a part of the question")
    output = output_of("compare", args)
    fleet = fleet_in([args.before], args.hosts, at=args.at, not_older=args.not_older)
    if len(fleet.hosts) + len(fleet.left_out) < 2:
        only = quoted(fleet.hosts[0].name) if fleet.hosts else "no host"
        raise NotationError(args.before, f"{quoted(args.before)} holds {only}: there is nothing to compare it with")
    paths = [path for path in (args.after, *args.paths) if path is not None]
    same_people = joined_by(args.same_people)
    with engine_of(args.engine, args.engine_tls) as engine:
        if engine.about:
            output.complain(engine.about)
        with Progress(output.shows_progress, engine.doing, len(fleet.hosts), "hosts") as progress:
            found = compare_hosts(
                engine,
                fleet.hosts,
                paths,
                same_people=same_people,
                names=names_in(engine, fleet, args),
                incomplete=args.incomplete,
                progress=progress.report,
            )
    for place, why in sorted(found.failed.items()):
        output.leave_out(fleet.hosts[place].name, why)
    for left in fleet.left_out:
        output.leave_out(left.host, left.why)
    for place, problem in found.problems:
        where = f"on {visible(fleet.hosts[place].name)}"
        output.problem(PathError(problem.path, problem.errno, problem.doing, where))
    output.status = ExitStatus.NO if found.deviations else ExitStatus.DONE
    output.only_what_is_wrong(wrong=bool(found.deviations))
    output.add(BetweenHostsView(found, WordsOfHosts([host.name for host in fleet.hosts]), same_people))
    return output.finish()
