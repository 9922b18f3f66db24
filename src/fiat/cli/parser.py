"""Command-line parsing: argparse, with errors of one line."""

import argparse
import re
from collections.abc import Iterator, Sequence
from typing import Any, NoReturn

from fiat.app.status import ExitStatus
from fiat.core.text import near, quoted, visible
from fiat.render.terminal import NARROW, say, width


def _untranslated(message: str) -> str:
    return message


# argparse's own words are in English alone, but it loads and searches the locale for each of them
argparse._ = _untranslated  # type: ignore[attr-defined]


class Parser(argparse.ArgumentParser):
    """An argument parser whose errors are one line that names the word."""

    def __init__(self, **options: object) -> None:
        options.setdefault("formatter_class", _formatter)
        options.setdefault("allow_abbrev", False)
        super().__init__(add_help=False, **options)  # type: ignore[arg-type]
        self.from_files: dict[str, tuple[str, Sequence[str]]] = {}
        self.add_argument("-h", "--help", action="help", help=argparse.SUPPRESS)  # whoever reads of it has found it

    def parse_args(self, arguments: list[str] | None = None, namespace: Any = None) -> Any:  # type: ignore[override]
        """The arguments; what is none of them is named, with what it may have been meant for."""
        # paths may stand anywhere, before options and after them
        found, left = self.parse_known_intermixed_args(arguments, namespace)
        if left:
            self._leave(self._unknown(left[0]))
        return found

    def _unknown(self, word: str) -> str:
        """What is to be said of a word that is no argument of this command."""
        if not word.startswith("-") or word == "-":
            return f"there is no place for {quoted(word)} here"
        option = word.partition("=")[0]
        if option == "--config":
            return f"--config stands before the command: fiat --config FILE {self.prog.removeprefix('fiat ')} …"
        known = self.options()
        meant = MEANT.get(option.lstrip("-").lower())
        if meant is not None and meant[0] in known:
            return f"there is no option {quoted(option)}: {meant[0]} {meant[1]}"
        if meant is not None:
            return f"there is no option {quoted(option)}: elsewhere {meant[0]} {meant[1]}, and here nothing does"
        return f"there is no option {quoted(option)}{near(option, known)}"

    def options(self) -> list[str]:
        """Every option that it takes."""
        return [one for action in self._actions for one in action.option_strings]

    def places(self) -> Iterator[str]:
        """What stands on the command line beside options, as its help has it."""
        for action in self._actions:
            if not action.option_strings:
                several = action.nargs in ("+", "*")
                may_lack = action.nargs in ("?", "*") and not getattr(action, "needed", False)
                word = f"{action.metavar}{'…' if several else ''}"
                yield f"[{word}]" if may_lack else word

    def with_file(self, message: str, about: str) -> str:
        """A message that is about an option; where it stands, if a file of the configuration gave it."""
        for option, (place, values) in self.from_files.items():
            if option in about.split("/") or about in values:
                without = f"fiat --config none {self.prog.removeprefix('fiat ')} … leaves it out"
                return f"{message} ({option} stands in {place}; {without})"
        return message

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        """Refuse a word that is none of those that an option takes, and say which are."""
        if action.choices is not None and value not in action.choices:
            known = [str(one) for one in action.choices]
            option = "/".join(action.option_strings) or str(action.metavar)
            self._leave(
                self.with_file(
                    f"{option} takes no {quoted(str(value))}{near(str(value), known)}; it is one of {', '.join(known)}",
                    option,
                )
            )

    def error(self, message: str) -> NoReturn:
        """Print one line and leave with the status for a wrong command line; argparse's own words become Fiat's."""
        for words, ours in _OURS.items():
            message = re.sub(words, ours, message)
        about = next((word.rstrip(":") for word in message.split() if word.startswith("-")), "")
        self._leave(self.with_file(visible(message), about))

    def _leave(self, message: str) -> NoReturn:
        say(f"{self.prog}: {message}; {self.prog} --help explains it")
        raise SystemExit(ExitStatus.WRONG_COMMAND_LINE)


_OURS = {
    r"^the following arguments are required: (.*)$": r"what is missing: \1",
    r"^argument (\S+): expected one argument$": r"\1 needs a word after it",
    r"^argument (\S+): expected at least one argument$": r"\1 needs a word after it, or several",
    r"^argument (\S+): ignored explicit argument (.*)$": r"\1 takes no word, and there is \2",
    r"^argument (\S+): not allowed with argument (\S+)$": r"\1 does not go with \2",
    r"^one of the arguments (.*) is required$": r"one of these is needed: \1",
    r"^argument (\S+): (?!expected)": r"\1: ",
}
"""What argparse says, and the same in Fiat's words."""

_TREE = ("--below", "means a path and the whole tree under it")
_BEFORE = ("--preview", "shows what would happen, and changes nothing")
_SILENT = ("--quiet", "prints nothing but what is wrong")
MEANT = {
    **dict.fromkeys(("r", "recursive", "recursively", "recurse", "tree", "whole-tree", "all-below", "subtree"), _TREE),
    **dict.fromkeys(("n", "dry", "dry-run", "simulate", "test", "try", "what-if"), _BEFORE),
    **dict.fromkeys(("q", "silent", "s"), _SILENT),
    **dict.fromkeys(("force", "y", "yes"), ("--accept", "takes the name of the guard that objects")),
    **dict.fromkeys(("u", "who"), ("--user", "takes the name of a user")),
    **dict.fromkeys(("g",), ("--group", "takes the name of a group")),
    **dict.fromkeys(("m",), ("--mode", "takes a mode, and --entry an access entry")),
    **dict.fromkeys(("permissions", "perms"), ("--mode", "takes a mode")),
    **dict.fromkeys(("acl", "add-entry"), ("--entry", "takes an access entry")),
    **dict.fromkeys(("remove-entry", "delete-entry"), ("--no-entry", "takes whom the entry is for")),
    **dict.fromkeys(("files-only",), ("--only", "takes files or dirs")),
    **dict.fromkeys(("why", "reason", "reasons", "explain", "verbose", "v"), ("--because", "names what decided")),
}
"""Words that people bring for options of other names, with the option and what it does."""


class _Formatter(argparse.HelpFormatter):
    """Wraps prose and lists; what is to be copied, which stands indented after ``#``, is left in one piece."""

    def _split_lines(self, text: str, width: int) -> list[str]:
        import textwrap

        return textwrap.wrap(" ".join(text.split()), width, break_on_hyphens=False, break_long_words=False)

    def _fill_text(self, text: str, width: int, indent: str) -> str:
        import textwrap

        found: list[str] = []
        prose: list[str] = []
        for line in [*text.split("\n"), ""]:
            if line and not line.startswith(" "):
                prose.append(line)
                continue
            found += textwrap.wrap(" ".join(prose), width, break_on_hyphens=False, break_long_words=False)
            prose = []
            item = re.match(r"  [a-z-]+ {2,}", line)  # a word and what it means
            if item is not None:
                hanging = " " * len(item[0])
                found += textwrap.wrap(line, width, subsequent_indent=hanging, break_on_hyphens=False)
            else:
                found.append(line)
        return "\n".join(found[:-1])


def _formatter(prog: str) -> argparse.HelpFormatter:
    """A formatter that is given the width: asking for it itself, argparse loads a good deal for every command."""
    return _Formatter(prog, max_help_position=26, width=min(width() or NARROW, NARROW))
