"""Command-line parsing: argparse, with errors of one line."""

import argparse

from fiat.app.status import Status
from fiat.app.text import visible
from fiat.core.typed import NoReturn
from fiat.render.streams import say
from fiat.render.terminal import NARROW, width


def _untranslated(message: str) -> str:
    return message


# argparse's own words are in English alone, but it loads and searches the locale for each of them
argparse._ = _untranslated  # type: ignore[attr-defined]


class Parser(argparse.ArgumentParser):
    """An argument parser whose errors are one line that names the word."""

    def __init__(self, **options: object) -> None:
        options.setdefault("formatter_class", _formatter)
        options.setdefault("allow_abbrev", False)
        super().__init__(**options)  # type: ignore[arg-type]

    def error(self, message: str) -> NoReturn:
        """Print one line and leave with the status for a wrong command line."""
        say(f"{self.prog}: {visible(message)}; {self.prog} --help explains it")
        raise SystemExit(Status.WRONG_COMMAND_LINE)


def _formatter(prog: str) -> argparse.HelpFormatter:
    """A formatter that is given the width: asking for it itself, argparse loads a good deal for every command."""
    return argparse.RawDescriptionHelpFormatter(prog, width=min(width() or NARROW, 100) - 2)
