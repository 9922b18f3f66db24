"""Save everything that the questions need of these trees to a file: modes, owners, lists,
flags and capabilities, the way there, mounts, settings and accounts. Every command takes
the file with --from, and fiat compare says what has changed since.

What could not be read is saved as unknown. The file is compressed where its name ends in
.zst or .gz; it is for its owner alone, and there whole or not at all."""

import argparse
import sys

from fiat.app.save import Destination, save
from fiat.app.unevaluated import of_host
from fiat.cli.options.common import add_common, count_of_snapshots, goes_with, not_with, output_of, settings_of
from fiat.cli.options.elevation import add_elevation
from fiat.cli.options.fleet import add_engine
from fiat.cli.options.paths import add_paths
from fiat.cli.options.view import add_view, viewed_host_of
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError
from fiat.render.save import SavedView

EXAMPLES = (
    ("the state of one tree", "fiat save /srv/skerry/charts -o charts.jsonl"),
    ("one more in a folder, of which the last thirty stay", "fiat save /srv/skerry --add saved --keep 30"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat save``."""
    add_paths(parser, "the tree to be saved")
    where = parser.add_mutually_exclusive_group()
    where.add_argument("-o", "--output", metavar="FILE", help="the file to save to; - is the output")
    where.add_argument("--add", metavar="DIR", help="save into this folder, under the time as name")
    parser.add_argument(
        "--keep", type=count_of_snapshots, metavar="N", help="with --add: only the last N snapshots stay there"
    )
    parser.add_argument("--across-mounts", action="store_true", help="other file systems in the tree, too")
    parser.add_argument(
        "--for-audit", action="store_true", help="keep what fiat audit asks besides: kinds of secrets, never contents"
    )
    add_elevation(parser)
    add_view(parser)
    add_common(parser)
    add_engine(parser)


def run(args: argparse.Namespace) -> int:
    """Save, and say what was."""
    goes_with("--keep", args.keep is not None, "--add", args.output is None)
    to_output = args.output == "-"
    form = f"--format {args.format}"
    not_with(form, args.format != "text", "--output -", to_output, "what is printed is the snapshot itself")
    kept = settings_of(args).snapshots
    if args.output is None and args.add is None and kept is None:
        raise NotationError("-o", "save to what? -o FILE saves to a file, --add DIR one more into a folder")
    output = output_of("save", args, changes=not to_output)
    host = viewed_host_of(args)
    if args.output is None and args.add is None:
        args.add = f"{kept}/{host.name}"
    output.settled = False  # what the accounts could not tell is not kept either
    with Progress(output.shows_progress and not to_output) as progress:
        saved = save(
            host,
            args.paths,
            Destination(args.output, args.add, args.keep, sys.stdout if to_output else None),
            across_mounts=args.across_mounts,
            for_audit=args.for_audit,
            elevation=args.elevation,
            problem=output.problem,
            progress=progress.report,
        )
    if saved is None:
        return output.finish()
    if saved.path is None:
        return output.finish()
    output.add(SavedView(saved, live=args.snapshot is None))
    output.caveat(of_host(host))
    return output.finish()
