"""Draw who can do what with some paths: a row for each path, a column for people who are alike.
Each right has a form and a colour of its own. What is otherwise than for everyone else
stands out."""

import argparse

from fiat.app import unevaluated
from fiat.app.hosts import arrive
from fiat.app.peoplebypaths import people_by_paths
from fiat.app.who import who
from fiat.cli.options.common import add_host, host_of, output_of
from fiat.cli.options.paths import add_paths
from fiat.cli.options.picture import add_picture, expect_place, show
from fiat.cli.options.questions import add_memberships, add_people, question

EXAMPLES = (
    (
        "who can do what with three folders",
        "fiat chart who /srv/skerry/keys /srv/skerry/dropbox /srv/skerry/logbook -o who.png",
    ),
    ("who can delete what, to be printed", "fiat chart who /srv/skerry/dropbox --can delete -o who.pdf"),
    ("its data and its layout", "fiat chart who /srv/skerry/keys/lamp.key --can read,write --json"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat chart who``."""
    add_paths(parser, "a path; symlinks are followed, as the kernel does")
    add_picture(parser)
    add_people(parser)
    add_memberships(parser)
    add_host(parser)


def run(args: argparse.Namespace) -> int:
    """Ask each path, and draw the table; the exit status."""
    expect_place(args)
    output = output_of("chart who", args)
    host = host_of(args)
    asked = question(args, host)
    output.caveat(asked.caveats)
    found = []
    for route in arrive(host, args.paths, output.problem, missing=asked.may_be_missing):
        found.append(who(asked, route))
        output.caveat(unevaluated.of_route(route))
    if found:
        from fiat.render.charts.who import who_picture

        show(who_picture(people_by_paths(found), asked, f"on {host.name}"), args, output)
        output.caveat(unevaluated.of_host(host))
    return output.finish()
