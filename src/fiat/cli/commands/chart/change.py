"""Draw what a change does, or has done: who gains and who loses which right, on how many
paths, and what is other than before. WORDS are those of a command that tells of a change,
as it is typed after fiat: set, restore and undo are drawn as they would be, and change
nothing; compare draws two states, history N a run."""

import argparse
import importlib
from typing import Any

from fiat.cli.options.common import take_usual_accounts
from fiat.cli.options.fleet import asks_fleet
from fiat.cli.options.picture import add_picture, expect_place, show
from fiat.cli.parser import Parser
from fiat.core.errors import NotationError
from fiat.core.text import joined, quoted, shell_word
from fiat.render.kept import KeptOutput
from fiat.render.shownchange import ShowsChange

EXAMPLES = (
    (
        "what a change would do",
        "fiat chart change set /srv/skerry/observatory --below --mode o+rX -o change.png",
    ),
    ("what a week has done", "fiat chart change compare skerry skerry-later -o week.svg"),
    ("the numbers behind it", "fiat chart change compare skerry skerry-later --json"),
)

TOLD = ("set", "restore", "undo", "compare", "history")
"""The commands whose changes can be drawn."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat chart change``."""
    parser.add_argument("words", nargs="+", metavar="WORDS", help=f"one of {joined(TOLD)}, with its own words after it")
    add_picture(parser)


def parse(words: list[str]) -> argparse.Namespace:
    """The arguments of the picture, wherever they stand, and those of the command that is drawn."""
    own = Parser(prog="fiat chart change", usage="fiat chart change WORDS… -o FILE")
    add_picture(own)
    if any(word in ("-h", "--help") for word in words[:1]) or not words:
        from fiat.cli.registry import load

        load("chart change").parser.parse_args(words or ["--help"])
    args, rest = own.parse_known_args(words)
    if not rest or rest[0] not in TOLD:
        given = f"{quoted(rest[0])} tells of no change; there are" if rest else "a change of what? There are"
        raise NotationError(rest[0] if rest else "WORDS", f"{given} {joined(TOLD)}, with its own words after it")
    from fiat.cli.registry import load

    command: Any = load(rest[0])
    told: argparse.Namespace = command.parse(rest[1:])
    told.command = rest[0]
    told.format, told.quiet = args.format, args.quiet
    take_usual_accounts(told)
    if asks_fleet(told):
        raise NotationError(rest[0], "a picture shows one host: name one with --from FOLDER/HOST")
    args.told, args.words = told, rest
    return args


def run(args: argparse.Namespace) -> int:
    """Have the command tell of the change, and draw it; the exit status."""
    expect_place(args)
    told = args.told
    if "preview" in told:
        told.preview = True
    told.settings = args.settings
    output = told.kept = KeptOutput("chart change", args.format, quiet=args.quiet)
    if told.command == "history" and told.run is None:
        raise NotationError("history", "which run? fiat history lists them; write history N")
    importlib.import_module(f"fiat.cli.commands.{told.command}").run(told)
    output.go_on()
    if not output.answered:
        return output.finish()
    shown = [result for result in output.results if isinstance(result, ShowsChange)]
    if not shown:
        if output.answered and not output.has_problems:
            raise NotationError(told.command, f"this {told.command} tells of no change, so there is nothing to draw")
        return output.finish()
    from fiat.app.status import ExitStatus
    from fiat.render.charts.change import change_picture

    output.status = ExitStatus.DONE
    typed = " ".join(map(shell_word, args.words))
    show(change_picture(shown[0].shown_change(), f"fiat {typed}"), args, output)
    return output.finish()
