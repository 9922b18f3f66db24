"""The option that asks how a container sees the host."""

import argparse

from fiat.cli.options.common import host_of, not_with, process_number, speaks_of
from fiat.core.model.host import Host


def add_view(parser: argparse._ActionsContainer) -> None:
    """Add it."""
    parser.add_argument(
        "--as-seen-by", type=process_number, metavar="PID", help="as the container sees it that the process PID is in"
    )


_NOT_READ = (
    ("--pid", "pid", "its people are asked about, not processes"),
    ("--through-programs", "through_programs", "what runs there without being asked is not looked into"),
    ("--umask", "umask", "what a login gives there is not read"),
    ("--for-audit", "for_audit", "what an audit asks besides is read of this host alone"),
)
"""What would be told of this host, where the container is asked about: the option, its name among the others, why."""


def viewed_host_of(args: argparse.Namespace) -> Host:
    """The host that is asked, as the container sees it that is named, if one is."""
    about = "--as-seen-by"
    given = args.as_seen_by is not None
    not_with(about, given, "--from", args.snapshot is not None, "nothing runs on a host in a file")
    for option, there, why in _NOT_READ:
        not_with(about, given, option, getattr(args, there, None), why)
    host = host_of(args)
    if not given:
        return host
    seen = host.view_of(args.as_seen_by)
    speaks_of(args, seen)
    return seen
