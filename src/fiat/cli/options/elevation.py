"""The options that ask what people can do by acting as others."""

import argparse
from typing import TYPE_CHECKING

from fiat.cli.options.common import goes_with
from fiat.core.model.host import Host

if TYPE_CHECKING:
    from fiat.app.elevation import Matcher


def add_elevation(parser: argparse._ActionsContainer, asks: str = "") -> None:
    """Add them; where the rules are only read, and not asked about, there is nothing that ``asks``."""
    if asks:
        parser.add_argument("--elevated", action="store_true", help=asks)
    parser.add_argument(
        "--elevation", metavar="FILE", help="the rules by which users act as others, as cvtsudoers -f json writes them"
    )


def matcher_of(args: argparse.Namespace, host: Host) -> "Matcher | None":
    """The rules, where they are asked about; :class:`ElevationError` where there are none to be had."""
    goes_with("--elevation", args.elevation is not None, "--elevated", args.elevated)
    if not args.elevated:
        return None
    from fiat.app.elevation import Matcher, elevations_of

    return Matcher(elevations_of(host, args.elevation), host.accounts)
