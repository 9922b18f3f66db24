"""One question to a whole fleet: a command is run for each host by an engine, and its answers are put together."""

from __future__ import annotations

import argparse
import copy
import importlib
from collections.abc import Iterator
from typing import NamedTuple

from fiat.app.fleet import (
    Fleet,
    FleetHost,
    JoinedNames,
    file_of,
    fleet_in,
    in_pairs,
    joined_by,
    without_path,
)
from fiat.app.fleetwork import Engine, engine_of, everyone_in, held_files, in_pieces
from fiat.app.status import ExitStatus
from fiat.cli.options.fleet import files_named, refuse_what_is_not_for_fleets
from fiat.cli.progress import Progress
from fiat.core.errors import FiatError, NotationError
from fiat.render.fleet import FleetOutput
from fiat.render.hostanswer import CollectedOutput, HostAnswer


class Asked(NamedTuple):
    """One host, and the command line that asks it; ``before`` is the host as it was, where two states are compared."""

    host: FleetHost
    args: argparse.Namespace
    before: FleetHost | None = None


def run(args: argparse.Namespace) -> int:
    """Ask every host of the fleet that the command line names; the exit status."""
    refuse_what_is_not_for_fleets(args)
    fleet, before = _fleet(args)
    output = FleetOutput(args.command, args.format, fleet, joined_by(args.same_people), quiet=args.quiet)
    with engine_of(args.engine, args.engine_tls) as engine:
        if engine.about:
            output.complain(engine.about)
        args.names = names_in(engine, fleet, args)
        args.held = held_files(files_named(args)) if engine.far else None
        with Progress(output.shows_progress, engine.doing, len(fleet.hosts), "hosts") as progress:
            for done, (place, answer) in enumerate(engine.each(ask, _pieces(engine, fleet, before, args)), 1):
                output.take(place, answer if isinstance(answer, HostAnswer) else _failed(answer))
                progress.report(done, fleet.hosts[place].name)
    return output.finish()


def _fleet(args: argparse.Namespace) -> tuple[Fleet, list[FleetHost]]:
    """The hosts that are asked; and where states are compared, each as it was."""
    if args.command != "compare":
        return fleet_in(args.snapshots, args.hosts, at=args.at, not_older=args.not_older), []
    then = fleet_in([args.before], args.hosts, at=args.at)
    return in_pairs(then, fleet_in([args.after], args.hosts, not_older=args.not_older))


def names_in(engine: Engine, fleet: Fleet, args: argparse.Namespace) -> JoinedNames | None:
    """The names that numbers have in the whole fleet, where people are joined by number."""
    if joined_by(args.same_people) == "name":
        return None
    return JoinedNames(*everyone_in(engine, fleet.hosts).names())


def _pieces(engine: Engine, fleet: Fleet, before: list[FleetHost], args: argparse.Namespace) -> Iterator[Asked]:
    now = in_pieces(engine, fleet.hosts)
    if not before:
        return (Asked(host, args) for host in now)
    return (Asked(host, args, then) for host, then in zip(now, in_pieces(engine, before), strict=True))


def _failed(error: Exception) -> HostAnswer:
    if not isinstance(error, FiatError):
        raise error
    return HostAnswer(ExitStatus.IN_PART, error=str(error))


def ask(asked: Asked) -> HostAnswer:
    """The answer of one host; what is wrong with it, or with a word there, is an answer as well."""
    host, args = asked.host, copy.copy(asked.args)
    collected = CollectedOutput(args.command, args.format, host.name, joined_by(args.same_people), quiet=args.quiet)
    args.collected = collected
    with file_of(host) as path, file_of(asked.before or host) as path_before:
        if asked.before is None:
            args.snapshot = path
        else:
            args.before, args.after, args.at = path_before, path, None
        module = importlib.import_module(f"fiat.cli.commands.{args.command}")
        try:
            status = module.run(args)
        except FiatError as error:
            wrong = ExitStatus.WRONG_COMMAND_LINE if isinstance(error, NotationError) else ExitStatus.IN_PART
            message = without_path(without_path(str(error), host, path), host, path_before)
            return HostAnswer(wrong, people=collected.people, error=message)
    return collected.answer(ExitStatus(status))
