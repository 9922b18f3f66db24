"""Answer one question - may WHO do this to PATH? - and walk the route to the
answer: what each component needed, and the rule and entry that decided it.

WHO is a user name, uid:NUMBER, group:NAME (membership alone), pid:NUMBER
(a running process), anyone-else or self. RIGHT is read, write, execute,
traverse, list, append, create, delete, rename, change-mode, change-owner or
change-group. The exit status is 0 for yes and 1 for no."""

import argparse

from fiat.app.hosts import open_host
from fiat.app.status import Status
from fiat.app.text import PathError
from fiat.app.why import RIGHT_NAMES, right_named, why
from fiat.cli.options.common import add_common, output_of, same_host
from fiat.render.why import WhyView

EXAMPLES = (
    (
        "a file that says r and cannot be read",
        "fiat why surveyor read /srv/skerry/observatory/2026/november/barometer.csv",
    ),
    ("a group on its own", "fiat why group:press write /srv/skerry/charts/draft"),
    ("somebody without any account here", "fiat why anyone-else delete /srv/skerry/dropbox/from-surveyor.txt"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat why``."""
    parser.add_argument("who", metavar="WHO", help="who asks: keeper, uid:7101, group:watch, pid:812, self")
    parser.add_argument("right", metavar="RIGHT", help=f"what they want: {', '.join(RIGHT_NAMES)}")
    parser.add_argument("path", metavar="PATH", help="where; symlinks are followed, as the kernel does")
    add_common(parser)


def run(args: argparse.Namespace) -> int:
    """Give the verdict."""
    output = output_of("why", args)
    right_named(args.right)  # before the host is opened, which takes longer
    host = open_host(args.snapshot, args.accounts)
    try:
        found = why(host, args.who, args.right, args.path)
    except PathError as error:
        output.problem(error)
        return output.finish()
    output.caveat(found.caveats)
    output.status = Status.DONE if found.verdict.allowed else Status.NO
    output.add(WhyView(found, same_host(args)))
    return output.finish()
