"""Let WHO have RIGHT at PATH: the least change that gives just that. Ways are told with
what each costs everyone else, the best first; --do carries one out, with guards, history
and undo as fiat set has them. Without --do nothing is changed.

A way changes PATH itself and directories on its route, never what is beside; or it is
one membership, which is not Fiat's to change."""

import argparse

from fiat.cli.options.meaning import add_meaning, run_meaning

EXAMPLES = (
    (
        "the auditor may read this and nothing more",
        "fiat let auditor read /srv/skerry/observatory/2026/november/barometer.csv",
    ),
    ("a service may write its log", "fiat let chartpress write /srv/skerry/log/chartpress.log"),
    ("what it would do, and to whom", "fiat let group:press read /srv/skerry/gauge/raw/0412.csv --preview"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat let``."""
    add_meaning(parser)


def run(args: argparse.Namespace) -> int:
    """Find the least change that gives them the right, and carry one out where asked; the exit status."""
    return run_meaning("let", args, gives=True)
