"""Bar WHO from RIGHT at PATH: the least change that takes just that. Ways are told with
what each costs everyone else, the best first; --do carries one out, with guards, history
and undo as fiat set has them. Without --do nothing is changed.

PATH itself is changed, which holds for all its names; for delete, rename and create it is
the directory that decides. Who owns PATH can give it back to themselves, and it is said."""

import argparse

from fiat.cli.options.meaning import add_meaning, run_meaning

EXAMPLES = (
    ("the steward shall not read this", "fiat bar steward read /srv/skerry/gauge/raw/0412.csv"),
    ("nor the apprentice delete that", "fiat bar apprentice delete /srv/skerry/charts/draft/approach.chart"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat bar``."""
    add_meaning(parser)


def run(args: argparse.Namespace) -> int:
    """Find the least change that takes the right from them, and carry one out where asked; the exit status."""
    return run_meaning("bar", args, gives=False)
