"""Command-line parsing shared by all commands: one-line errors, common options."""

import argparse
import sys
from typing import NoReturn

from fiat.cli.status import Status
from fiat.core.visible import visible

SAMPLE = "skerry"


class Parser(argparse.ArgumentParser):
    """An argument parser whose errors are one line that names the word."""

    def __init__(self, **options: object) -> None:
        options.setdefault("formatter_class", argparse.RawDescriptionHelpFormatter)
        options.setdefault("allow_abbrev", False)
        super().__init__(**options)  # type: ignore[arg-type]

    def error(self, message: str) -> NoReturn:
        """Print one line and leave with the status for a wrong command line."""
        print(f"{self.prog}: {visible(message)}; {self.prog} --help explains it", file=sys.stderr)
        raise SystemExit(Status.WRONG_COMMAND_LINE)


def add_common(parser: argparse.ArgumentParser, formats: tuple[str, ...] = ("text", "json")) -> None:
    """The options that every command takes."""
    parser.add_argument(
        "--format", choices=formats, default="text", help="how the result is printed (text unless given)"
    )
    parser.add_argument(
        "--accounts",
        metavar="DIR",
        help="take users and groups from the files passwd and group in DIR, not from this host",
    )
    parser.add_argument(
        "--from",
        dest="snapshot",
        metavar="SNAPSHOT",
        help=f"ask about the host held in a snapshot file; {SAMPLE} is the sample host that comes with Fiat",
    )
