"""Completion for shells: one parser of all commands, of which a library makes a script that asks for the words of this
host (``fiat --words KIND``)."""

from __future__ import annotations

import argparse
import re

from fiat.app.wordshere import FIXED, KINDS, words_here
from fiat.cli.options.common import COMMON
from fiat.cli.registry import COMMANDS, load
from fiat.core.errors import HostError

SHELLS = ("bash", "zsh", "fish")

_BY_METAVAR = {
    "USER": "users",
    "GROUP": "groups",
    "RIGHT": "rights",
    "WHO": "who",
    "GUARD": "guards",
    "RULE": "rules",
    "NAME[:WHO]": "arrangements",
    "SNAPSHOT": "snapshots",
    "SNAPSHOTS": "snapshots",
    "A": "states",
    "B": "states",
}
"""What stands for a word in help, and the kind of words that it is of."""

_OF_COMMAND = {("undo", "N"): "runs", ("history", "N"): "runs", ("undo", "A..B"): "runs", ("show", "NAME"): "users"}
_ABOUT = {"--json": "the same as JSON", "--help": "explain the command"}
"""Options of all commands that the help of none explains."""

_NO_MARKS = re.compile(r"[^\w.-]+")
_FILES, _FOLDERS = ("FILE", "PATH", "WORDS"), ("DIR",)


def script(shell: str) -> str:
    """The script that has ``shell`` complete command lines of fiat; :class:`HostError` without the library."""
    try:
        import shtab
    except ImportError as error:
        raise HostError("completion needs shtab: pip install shtab gets it") from error
    preamble = "\n".join(_function(shell, kind) for kind in KINDS)
    made: str = shtab.complete(_everything(shell, shtab.FILE, shtab.DIRECTORY), shell, preamble=preamble)
    return made


def _function(shell: str, kind: str) -> str:
    """What a shell calls for the words of a kind."""
    asks = f"command fiat --words {kind} 2>/dev/null"
    if kind in FIXED:  # nothing is to be started for these
        asks = f"printf '%s\\n' {' '.join(words_here(kind))}"
    if shell == "bash":
        return f'_fiat_{kind}() {{ compgen -W "$({asks})" -- "$1"; }}'
    if shell == "zsh":
        return f'_fiat_{kind}() {{ local -a words; words=(${{(f)"$({asks})"}}); compadd -a words }}'
    return f"function _fiat_{kind}; {asks}; end"


def _everything(shell: str, file: object, folder: object) -> argparse.ArgumentParser:
    whole = argparse.ArgumentParser(prog="fiat", description="what a path allows, and who can really get at it")
    whole.add_argument("--version", action="store_true", help="which Fiat this is")
    whole.add_argument("--where", action="store_true", help="which configuration is read")
    whole.add_argument("--config", help="read this file too").complete = file  # type: ignore[attr-defined]
    commands = whole.add_subparsers()
    for command in COMMANDS.values():
        if not command.kinds:
            one = commands.add_parser(command.name, help=command.summary, add_help=False)
            _take_over(one, command.name, shell, file, folder)
            continue
        kinds = commands.add_parser(command.name, help=command.summary, add_help=False).add_subparsers()
        for kind, about in command.kinds.items():
            _take_over(
                kinds.add_parser(kind, help=about, add_help=False), f"{command.name} {kind}", shell, file, folder
            )
    return whole


def _take_over(parser: argparse.ArgumentParser, name: str, shell: str, file: object, folder: object) -> None:
    """The arguments of a command, each with what completes it; help that is said once for all commands comes back."""
    for action in load(name).parser._actions:
        option = action.option_strings[-1] if action.option_strings else ""
        if action.help == argparse.SUPPRESS:
            if option not in COMMON and option not in ("--json", "--help"):
                continue
            action.help = COMMON.get(
                option, "what --format json prints" if option == "--json" else "explain the command"
            )
        metavar = str(action.metavar or "")
        kind = _OF_COMMAND.get((name, metavar)) or _BY_METAVAR.get(metavar)
        if kind is not None and not action.choices:
            action.complete = {  # type: ignore[attr-defined]
                "bash": f"_fiat_{kind}",
                "zsh": f"_fiat_{kind}",
                "fish": f"(_fiat_{kind})",
            }
        elif metavar in _FILES or metavar in _FOLDERS:
            action.complete = folder if metavar in _FOLDERS else file  # type: ignore[attr-defined]
        action.metavar = _NO_MARKS.sub(" ", metavar).strip() or None  # zsh takes brackets and colons for its own
        parser._add_action(action)
