"""The option that says which files are followed although others could have written them."""

import argparse

from fiat.app.trust import FREE, Trust


def add_trust(parser: argparse._ActionsContainer) -> None:
    """Files that are trusted by name."""
    parser.add_argument(
        "--trust-file", action="append", default=[], metavar="FILE", help="follow FILE though others could write it"
    )


def trust_of(args: argparse.Namespace, *, acts: bool) -> Trust:
    """What may say what is to be done, where this command line ``acts``; anything where it only looks."""
    return Trust(True, tuple(args.trust_file)) if acts else FREE
