"""The options that speak of arrangements."""

import argparse
from typing import TYPE_CHECKING

from fiat.cli.options.common import trust_of
from fiat.core.errors import NotationError
from fiat.core.model.host import Host
from fiat.render.output import Output

if TYPE_CHECKING:
    from fiat.core.model.arrangement import ArrangementChoice

EXPLAIN = "list"
"""In place of a name: explain each arrangement."""


def add_arranging(parser: argparse.ArgumentParser) -> None:
    """The options for a named posture of a directory and what is in it."""
    group = parser.add_argument_group("arrangement")
    group.add_argument(
        "--arrange",
        metavar="NAME[:WHO]",
        help="PATH and all below as NAME has it; list: the names",
    )
    add_file(group)


def add_file(parser: "argparse._ActionsContainer") -> None:
    """The option that names a file of one's own."""
    parser.add_argument("--arrangements", metavar="FILE", help="arrangements of your own, besides those of /etc/fiat")


def arrangement_of(args: argparse.Namespace, host: Host) -> "ArrangementChoice | None":
    """The arrangement that is asked for; NotationError where something else is asked for besides."""
    if args.arrange is None:
        if args.arrangements is not None:
            raise NotationError("--arrangements", "--arrangements goes with --arrange")
        return None
    from fiat.app.arrange import known_arrangements
    from fiat.cli.options.wishes import lists_asked_for
    from fiat.core.words.arrangements import parse_chosen

    for option in ("mode", "file_mode", "dir_mode", "owner", "group", "like"):
        if getattr(args, option) is not None:
            typed = f"--{option.replace('_', '-')}"
            raise NotationError(typed, f"{typed} and --arrange both say what is to be; write one of them")
    if lists_asked_for(args):
        raise NotationError("--arrange", "--arrange says what becomes of the lists; entries are set by another run")
    if args.contents:
        raise NotationError("--contents", "--arrange is for PATH and all below it; --contents does not go with it")
    trust = trust_of(args, acts=not args.preview)
    return parse_chosen(args.arrange, known_arrangements(args.arrangements, trust), host.accounts)


def explain_arrangements(args: argparse.Namespace, output: Output) -> int:
    """Say what each arrangement is for."""
    from fiat.app.arrange import known_arrangements
    from fiat.render.arrangements import ArrangementView

    if args.paths:
        raise NotationError(EXPLAIN, "--arrange list explains the arrangements, and takes no PATH")
    for one in known_arrangements(args.arrangements).values():
        output.add(ArrangementView(one))
    return output.finish()
