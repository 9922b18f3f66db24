"""Say what a directory makes of what is made in it tomorrow: owner, group, mode and
lists of a new file and a new directory, of what is moved there and what is copied;
who could reach it; and whom that surprises.

Without --by, for everyone who may add names there. The umask is the one that a login
of theirs gets (fiat show --umask --user NAME says where it is set)."""

import argparse

from fiat.app.foresee import ForeseeOptions, foreseen
from fiat.app.unevaluated import of_host
from fiat.cli.options.common import add_common, host_of, output_of
from fiat.cli.options.paths import add_paths
from fiat.render.foresee import ForeseenView

EXAMPLES = (
    ("what anyone makes in a shared directory", "fiat foresee /srv/skerry/charts/draft"),
    ("a file that asks to be private", "fiat foresee /srv/skerry/gauge/raw --by tidefeed --asking 600"),
    (
        "what becomes of a file there",
        "fiat foresee /srv/skerry/charts/print --by chartpress --of /srv/skerry/charts/draft/approach.chart",
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat foresee``."""
    add_paths(parser, "the directory", "DIR")
    parser.add_argument(
        "--by", action="append", default=[], metavar="WHO", help="who makes it: keeper, uid:7101, pid:812"
    )
    parser.add_argument("--umask", metavar="MASK", help="under this umask, not that of a login")
    parser.add_argument("--asking", metavar="MODE", help="the mode that a program asks for when it makes a file (666)")
    parser.add_argument("--of", metavar="PATH", help="what becomes of PATH, moved and copied there")
    add_common(parser)


def run(args: argparse.Namespace) -> int:
    """Foresee what each directory makes of things; the exit status."""
    output = output_of("foresee", args)
    host = host_of(args)
    how = ForeseeOptions(tuple(args.by), args.umask, args.asking, args.of)
    for found in foreseen(host, args.paths, how, held=args.snapshot is not None, problem=output.problem):
        output.caveat(found.caveats)
        output.add(ForeseenView(found))
    if output.answered:
        output.caveat(of_host(host))
    return output.finish()
