"""How far what is said of accounts looks, by the options of a command."""

import argparse

from fiat.app.account import Sight
from fiat.cli.progress import Progress
from fiat.render.output import Output


def sight_of(args: argparse.Namespace, output: Output, progress: Progress) -> Sight:
    """What is looked at, and who is told what cannot be."""
    return Sight(args.snapshot is not None, args.across_mounts, output.problem, output.caveat, progress.report)
