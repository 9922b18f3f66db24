"""Draw a map of the tree under DIR: a box for each directory, as large as it has entries,
its colour how many users can write there (or have another right). What is open to anyone
is striped, numbered and named."""

import argparse
import errno

from fiat.app import unevaluated
from fiat.app.hosts import arrive
from fiat.cli.options.common import add_host, host_of, output_of
from fiat.cli.options.picture import add_picture, expect_place, show
from fiat.cli.options.questions import add_people, question
from fiat.cli.options.selections import add_selection, selected
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError, PathError
from fiat.core.text import joined

EXAMPLES = (
    ("how many can write where", "fiat chart below /srv/skerry -o below.png"),
    ("where one user can", "fiat chart below /srv/skerry --user tidefeed -o tidefeed.svg"),
    ("who can read, the boxes as data", "fiat chart below /srv/skerry --can read --json"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat chart below``."""
    parser.add_argument("path", metavar="DIR", help="a directory; it and all under it is drawn")
    add_picture(parser)
    add_people(parser)
    add_selection(parser)
    parser.set_defaults(if_member=(), if_not_member=())
    add_host(parser)


def run(args: argparse.Namespace) -> int:
    """Ask about the tree, and draw its map; the exit status."""
    expect_place(args)
    output = output_of("chart below", args)
    args.can = args.can or ["write"]
    host = host_of(args)
    asked = question(args, host)
    if len(asked.asked) > 1:
        raise NotationError("--can", "one map shows one right: give one --can")
    output.caveat(asked.caveats)
    for route in arrive(host, [args.path], output.problem):
        if route.end is not None and not route.end.posture.directory:
            output.problem(PathError(args.path, errno.ENOTDIR, "draw what is below"))
            continue
        from fiat.app.howmany import how_many
        from fiat.app.whobelow import who_below
        from fiat.render.charts.below import below_picture

        with Progress(output.shows_progress) as progress:
            found = who_below(
                asked,
                route,
                selected(args, host.accounts),
                across_mounts=args.across_mounts,
                problem=output.problem,
                progress=progress.report,
            )
        output.caveat(found.caveats)
        output.caveat(unevaluated.of_route(route))
        names = [*args.user, *(f"members of {group} alone" for group in args.group)]
        who = joined([*names, "anyone else"] if args.anyone_else else names)
        right = "/".join(dict.fromkeys(right.name for right in asked.asked[0]))
        show(below_picture(how_many(found), right, who, f"on {host.name}"), args, output)
        output.caveat(unevaluated.of_host(host))
    return output.finish()
