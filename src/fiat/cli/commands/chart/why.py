"""Draw one verdict: the way from / to PATH as steps, what each needs and what decided it,
where it stops, and what would open it."""

import argparse

from fiat.app.why import why_each
from fiat.cli.options.common import add_host, host_of, output_of, same_host
from fiat.cli.options.picture import add_picture, expect_place, show
from fiat.core.errors import NotationError, PathError
from fiat.core.text import joined
from fiat.core.words.who import parse_rights

EXAMPLES = (
    (
        "why somebody cannot read",
        "fiat chart why surveyor read /srv/skerry/observatory/2026/november/barometer.csv -o why.png",
    ),
    ("the steps and their places", "fiat chart why auditor read /srv/skerry/gauge/raw/0412.csv --json"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat chart why``."""
    parser.add_argument("who", metavar="WHO", help="who asks: keeper, uid:7101, group:watch, pid:812, self")
    parser.add_argument("right", metavar="RIGHT", help="what they want: read, write, delete …")
    parser.add_argument("path", metavar="PATH", help="where; symlinks are followed, as the kernel does")
    add_picture(parser)
    add_host(parser)


def run(args: argparse.Namespace) -> int:
    """Ask for the verdict, and draw it; the exit status, which does not hang on the verdict."""
    expect_place(args)
    output = output_of("chart why", args)
    rights = parse_rights([args.right])
    if len(rights) > 1:
        raise NotationError(args.right, f"one picture shows one right: write one of {joined(args.right.split(','))}")
    host = host_of(args)
    output.settled = True
    try:
        (found,) = why_each(host, args.who, rights, args.path)
    except PathError as error:
        output.problem(error)
        return output.finish()
    from fiat.render.charts.why import why_picture

    output.caveat(found.caveats)
    show(why_picture(found, f"on {host.name}", same_host(args)), args, output)
    return output.finish()
