"""Draw what a host was like over time, from its snapshots (fiat save --add FOLDER): how many
users can do RIGHT on PATH, how many dangers an audit finds, and how many expectations are
broken. SNAPSHOTS are folders of one host's snapshots, or snapshots."""

import argparse

from fiat.app.overtime import Asked, over_time
from fiat.cli.options.common import goes_with, output_of
from fiat.cli.options.picture import add_picture, expect_place, show
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError, SnapshotError
from fiat.core.text import quoted
from fiat.core.words.who import parse_rights

EXAMPLES = (
    (
        "who got at the keys in the course of a week, and the dangers",
        "fiat chart over-time skerry skerry-later --on /srv/skerry/keys --can read,write -o week.png",
    ),
    ("and which expectations broke, as data", "fiat chart over-time skerry skerry-later --expect skerry --json"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat chart over-time``."""
    parser.add_argument("states", nargs="+", metavar="SNAPSHOTS", help="a folder of snapshots, or snapshots")
    parser.add_argument("--on", action="append", default=[], metavar="PATH", help="a path to be asked about")
    parser.add_argument("--can", action="append", default=[], metavar="RIGHT", help="how many can do this on PATH")
    parser.add_argument("--expect", action="append", default=[], metavar="FILE", help="expectations, as fiat check has")
    parser.add_argument("--no-dangers", action="store_true", help="do not look for dangers")
    add_picture(parser)


def run(args: argparse.Namespace) -> int:
    """Ask each snapshot, and draw the lines; the exit status."""
    expect_place(args)
    goes_with("--can", args.can, "--on PATH", args.on)
    output = output_of("chart over-time", args)
    rights = tuple(args.can) or (("read", "write") if args.on else ())
    parse_rights(rights)
    asked = Asked(tuple(args.on), rights, not args.no_dangers, tuple(args.expect))
    if not (asked.rights or asked.dangers or asked.expectations):
        raise NotationError("--no-dangers", "then nothing is asked: give --on PATH, or --expect FILE")
    with Progress(output.shows_progress, "asked", 0, "snapshots") as progress:
        host, moments = over_time(
            args.states,
            asked,
            problem=output.problem,
            left_out=lambda place, why: output.complain(f"{quoted(place)} is left out: {why}"),
            progress=lambda done, whole: progress.report(done, f"of {whole}"),
        )
    if not moments:
        raise SnapshotError(f"there is no snapshot with a time in {quoted(args.states[0])}")
    from fiat.render.charts.overtime import over_time_picture

    for moment in moments[-1:]:
        output.caveat(moment.caveats)
    unsure = any(one is not None and one.open for moment in moments for one in moment.can.values())
    about = "; of some it is not known, they are not counted" if unsure else ""
    show(over_time_picture(host, moments, args.on, about), args, output)
    return output.finish()
