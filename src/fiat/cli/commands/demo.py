"""Walk through the whole work on the sample host skerry: look, understand,
change, verify. Needs no privilege and changes nothing.

With DIR, as root, build the same tree for real under DIR, to try every command
on; DIR must be absent or empty."""

import argparse
import os
import shlex
import sys

from fiat.cli.parser import SAMPLE
from fiat.cli.status import Status
from fiat.core.errors import FiatError, PathError
from fiat.core.text import visible
from fiat.render import terminal


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat demo``."""
    parser.add_argument("folder", nargs="?", metavar="DIR", help="build the tree for real here (as root)")


def run(args: argparse.Namespace) -> int:
    """Tell the story, or build the tree."""
    if args.folder is None:
        return _tour()
    return _build(os.path.abspath(args.folder))


def _tour() -> int:
    from fiat.cli.main import main
    from fiat.demo.tour import SCENES

    terminal.say(
        f"One night on skerry, in {len(SCENES)} commands. Everything runs on a sample host that is held in a file; "
        f"add --from {SAMPLE} to any command to try it yourself."
    )
    for number, scene in enumerate(SCENES, 1):
        if scene.part:
            print(f"\n\n{terminal.paint(f'== {scene.part} ==', 'strong')}")
        print()
        terminal.say(scene.story)
        command = [*scene.command, "--from", SAMPLE]
        print(f"\n{terminal.paint('$ fiat ' + shlex.join(command), 'changed')}\n")
        sys.stdout.flush()
        status = main(command)
        if status not in (Status.DONE, Status.NO):
            raise FiatError(f"scene {number} of the demo ended with status {status}")
    print()
    terminal.say(
        "That was the work: look, understand, change, verify. To try changes for real, as root: "
        "fiat demo /tmp/skerry builds this tree there."
    )
    return Status.DONE


def _build(folder: str) -> int:
    from fiat.demo import build

    if os.geteuid() != 0:
        raise PathError(folder, 1, "build the sample host in", "only root can give files to other users")
    left_out = build.build(folder)
    top = visible(shlex.quote(f"{folder}{build.TOP}/skerry"))
    accounts = visible(shlex.quote(f"{folder}/{build.ACCOUNTS}"))
    print(f"The sample host's tree is in {top}, its accounts in {accounts}. Try:\n")
    for line in (
        f"fiat show {top}/gauge/raw",
        f"fiat why surveyor read {top}/observatory/2026/november/barometer.csv",
        f"fiat who {top}/dropbox",
        f"fiat set {top}/observatory --mode o+x --preview",
    ):
        print(f"{terminal.INDENT}{line} --accounts {accounts}")
    print("\nUnlike the sample host held in the file:")
    for line in left_out:
        print(f"{terminal.INDENT}{visible(line)}, so that the tree can simply be removed")
    return Status.DONE
