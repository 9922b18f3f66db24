"""One question to a whole fleet: a command is run for each host by an engine, and its answers are put together."""

from __future__ import annotations

import argparse
import copy
import importlib
from typing import NamedTuple

from fiat.app.fleet import FleetHost, JoinedNames, file_of, fleet_in, joined_by, without_path
from fiat.app.fleetwork import engine_of, everyone_in, in_pieces
from fiat.app.status import ExitStatus
from fiat.cli.options.fleet import refuse_what_is_not_for_fleets
from fiat.core.errors import FiatError, NotationError
from fiat.render.fleet import FleetOutput
from fiat.render.hostanswer import CollectedOutput, HostAnswer


class Asked(NamedTuple):
    """One host, and the command line that asks it."""

    host: FleetHost
    args: argparse.Namespace


def run(args: argparse.Namespace) -> int:
    """Ask every host of the fleet that the command line names; the exit status."""
    refuse_what_is_not_for_fleets(args)
    fleet = fleet_in(args.snapshots, args.hosts, at=args.at, not_older=args.not_older)
    output = FleetOutput(args.command, args.format, fleet, joined_by(args.same_people), quiet=args.quiet)
    with engine_of(args.engine, args.engine_tls) as engine:
        if engine.about:
            output.complain(engine.about)
        if args.same_people == "uid":
            names = everyone_in(engine, fleet.hosts).names()
            args.names = JoinedNames(*names)
        pieces = (Asked(host, args) for host in in_pieces(engine, fleet.hosts))
        for place, answer in engine.each(ask, pieces):
            output.take(place, answer if isinstance(answer, HostAnswer) else _failed(answer))
    return output.finish()


def _failed(error: Exception) -> HostAnswer:
    if not isinstance(error, FiatError):
        raise error
    return HostAnswer(ExitStatus.IN_PART, error=str(error))


def ask(asked: Asked) -> HostAnswer:
    """The answer of one host; what is wrong with it, or with a word there, is an answer as well."""
    host, args = asked.host, copy.copy(asked.args)
    collected = CollectedOutput(args.command, args.format, host.name, joined_by(args.same_people), quiet=args.quiet)
    with file_of(host) as path:
        args.snapshot, args.collected = path, collected
        module = importlib.import_module(f"fiat.cli.commands.{args.command}")
        try:
            status = module.run(args)
        except FiatError as error:
            wrong = ExitStatus.WRONG_COMMAND_LINE if isinstance(error, NotationError) else ExitStatus.IN_PART
            return HostAnswer(wrong, people=collected.people, error=without_path(str(error), host, path))
    return collected.answer(ExitStatus(status))
