"""The options for asking many hosts as one, and for who does the work."""

import argparse
import os

from fiat.cli.options.common import not_with, settings_of
from fiat.core.errors import NotationError

ASKABLE = ("who", "why", "show", "audit", "check")
"""Commands that ask fleets."""


def add_fleet(parser: argparse.ArgumentParser, *, at: bool = True) -> None:
    """Which hosts of a fleet are asked, and how they are put together; ``at`` what time, where nothing else says it."""
    parser.set_defaults(collected=None, names=None)
    parser.add_argument("--host", dest="hosts", action="append", default=[], metavar="GLOB", help=argparse.SUPPRESS)
    if at:
        parser.add_argument("--at", metavar="TIME", help=argparse.SUPPRESS)
    parser.add_argument("--not-older", metavar="AGE", help=argparse.SUPPRESS)
    parser.add_argument(
        "--same-people", choices=("name", "uid"), default="name", metavar="name|uid", help=argparse.SUPPRESS
    )
    add_engine(parser)


def add_engine(parser: argparse.ArgumentParser) -> None:
    """Who does the work."""
    parser.add_argument("--engine", metavar="ADDRESS", help=argparse.SUPPRESS)
    parser.add_argument("--engine-tls", metavar="DIR", help=argparse.SUPPRESS)


def take_engine(args: argparse.Namespace) -> None:
    """Take the engine that the environment names, where the command line names none."""
    if "engine" in args:
        for option, given in (("--engine", args.engine), ("--engine-tls", args.engine_tls)):
            if given == "":
                raise NotationError(option, f"{option} names nothing: the word after it is empty")
        settings = settings_of(args)
        args.engine = args.engine or os.environ.get("FIAT_ENGINE") or settings.engine
        args.engine_tls = args.engine_tls or os.environ.get("FIAT_ENGINE_TLS") or settings.engine_tls


def _means_fleet(places: list[str]) -> bool:
    from fiat.app.fleet import means_fleet  # which loads what reads snapshots

    return means_fleet(places)


def asks_fleet(args: argparse.Namespace) -> bool:
    """Whether the command line names a fleet. Raises :class:`NotationError` where the command asks no fleets, and for
    options that go with one alone."""
    if args.command == "compare":
        from fiat.app.fleet import is_fleet

        return not args.between_hosts and args.after is not None and (is_fleet(args.before) or is_fleet(args.after))
    places = getattr(args, "snapshots", None) or []
    if not (places and _means_fleet(places)):
        for option, name in (("--host", "hosts"), ("--at", "at"), ("--not-older", "not_older")):
            if getattr(args, name, None) and "same_people" in args:
                raise NotationError(option, f"{option} goes with --from FOLDER, a folder of snapshots")
        return False
    if "same_people" not in args:
        commands = ", ".join(ASKABLE)
        what = f"fiat {args.command} asks one host, and --from names a fleet"
        raise NotationError("--from", f"{what}; give one snapshot. Fleets are asked by: {commands}")
    return True


def files_named(args: argparse.Namespace) -> list[str]:
    """The files that the command line names besides snapshots, which workers may not have."""
    return [*(getattr(args, "files", None) or []), *filter(None, [getattr(args, "accept_known", None)])]


_FAR = (("--accounts", "accounts"), ("--elevation", "elevation"), ("--arrangements", "arrangements"))


def refuse_what_is_not_for_fleets(args: argparse.Namespace) -> None:
    """Refuse options that have no meaning for many hosts, or that name files which workers may not have."""
    fleet = "a fleet"
    refused = (
        ("--null", args.format == "null", "a path alone does not say on which host"),
        ("--as-seen-by", getattr(args, "as_seen_by", None), "nothing runs on a host in a file"),
        ("--pid", getattr(args, "pid", None), "nothing runs on a host in a file"),
        ("--umask", getattr(args, "umask", False), "a snapshot holds none of the files that set a umask"),
        ("--write", getattr(args, "write", False), "expectations are written of one host; give one snapshot"),
        ("--mend", getattr(args, "mend", False), "one plan is of one host; give one snapshot"),
        ("--write-known", getattr(args, "write_known", None), "what is accepted is written of one host"),
        ("--rules", getattr(args, "rules", False), "the rules are the same on every host"),
    )
    for option, given, why in refused:
        not_with(option, given, fleet, True, why)
    by_number = args.same_people == "uid"
    not_with("--elevated", getattr(args, "elevated", False), "--same-people uid", by_number, "its rules are by name")
    for option, name in _FAR:
        not_with(option, getattr(args, name, None), "--engine", args.engine, "its workers may not have that file")
