"""Walk through the whole work on the sample host skerry: look, understand,
change, verify. Needs no privilege and changes nothing. On a terminal it stops
before each chapter.

With DIR, as root, build the same tree for real under DIR, to try every command
on; DIR must be absent or empty."""

import argparse
import os
import shlex
import sys

from fiat.app import sample
from fiat.app.hosts import SAMPLE
from fiat.app.status import ExitStatus
from fiat.cli.registry import run_command
from fiat.core.errors import FiatError
from fiat.render.demo import GO_ON, BuiltView, ending, introduction, scene_blocks
from fiat.render.output import Output

EXAMPLES: tuple[tuple[str, str], ...] = ()


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat demo``."""
    parser.add_argument("--no-pause", action="store_true", help="go on from chapter to chapter without asking")
    parser.add_argument("folder", nargs="?", metavar="DIR", help="build the tree for real here (as root)")


def run(args: argparse.Namespace) -> int:
    """Tell the story, or build the tree."""
    output = Output("demo")
    if args.folder is not None:
        output.add(BuiltView(sample.build(os.path.abspath(args.folder))))
        return output.finish()
    scenes = sample.scenes()
    for block in introduction(len(scenes)):
        output.print(block)
    os.environ["FIAT_PAGER"] = ""  # all of it is one text
    for number, scene in enumerate(scenes, 1):
        if scene.part and number > 1 and not args.no_pause and not _goes_on():
            return output.finish()
        name, words = scene.command[0], [*scene.command[1:], *(("--from", SAMPLE) if scene.held else ())]
        for block in scene_blocks(scene, shlex.join([name, *words])):
            output.print(block)
        sys.stdout.flush()
        status = run_command(name, words)
        if status not in (ExitStatus.DONE, ExitStatus.NO, ExitStatus.GUARDED):
            raise FiatError(f"scene {number} of the demo ended with status {status}")
    for block in ending():
        output.print(block)
    return output.finish()


def _goes_on() -> bool:
    """Whether whoever sits at the terminal wants the next chapter; where nobody does, it comes."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        return True
    try:
        return not input(f"\n{GO_ON}").strip().lower().startswith("q")
    except EOFError:
        return False
