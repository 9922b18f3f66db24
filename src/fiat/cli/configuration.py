"""What the configuration does to a command line: the words that it puts before it, and ``fiat --where``."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from fiat.core.errors import ConfigurationError
from fiat.core.text import near, quoted

if TYPE_CHECKING:
    from fiat.cli.parser import Parser
    from fiat.core.words.configuration import Configuration, Given

EACH_TIME = ("accept", "trust-file", "do", "even-if-changed", "no-history", "through-flags", "paths-from", "output")
"""What no file decides: it takes a person's look each time, or is of one command line alone."""

ALL = "all"
"""In place of a command's name: options of every command that has them."""


def words_for(
    command: str, commands: Sequence[str], parser: Parser, found: Configuration, typed: Sequence[str]
) -> list[str]:
    """The words for the options that the configuration gives this one of the ``commands``, but for what is ``typed``.

    Raises :class:`ConfigurationError` for an option that there is not, or not from a file, or with another value.
    """
    expect_commands(found, commands)
    words: list[str] = []
    given = {**found.options.get(ALL, {}), **found.options.get(command, {})}
    for name, one in given.items():
        action = action_of(parser, name)
        if action is None and name in found.options.get(command, {}):
            raise ConfigurationError(f"{one.place}: fiat {command} has no option {quoted(name)}{_near(name, parser)}")
        if action is None or any(_is_typed(parser, action.dest, word) for word in typed):
            continue
        given_words = list(_words(name, action, one))
        parser.from_files[f"--{name}"] = one.place, [word.partition("=")[2] for word in given_words if "=" in word]
        words += given_words
    return words


def expect_commands(found: Configuration, commands: Sequence[str]) -> None:
    """Raise :class:`ConfigurationError` for a command that there is not, and for options that no file gives."""
    known = [*commands, ALL]
    for command, table in found.options.items():
        for name, one in table.items():
            if command not in known:
                raise ConfigurationError(f"{one.place}: no command is called {quoted(command)}{near(command, known)}")
            if name in EACH_TIME:
                why = "a guard is accepted by whoever sees it" if name == "accept" else "it is typed each time"
                raise ConfigurationError(f"{one.place}: --{name} is not taken from a file: {why}")


def action_of(parser: Parser, name: str) -> argparse.Action | None:
    """The option with this name."""
    return next((one for one in parser._actions if f"--{name}" in one.option_strings), None)


def _near(name: str, parser: Parser) -> str:
    return near(name, [one.removeprefix("--") for one in parser.options() if one.startswith("--")])


def _is_typed(parser: Parser, dest: str, word: str) -> bool:
    """Whether a word on the command line is an option that sets the same."""
    options = [one for action in parser._actions if action.dest == dest for one in action.option_strings]
    option = word.partition("=")[0] if word.startswith("--") else word[:2]
    return option in options


def _words(name: str, action: argparse.Action, given: Given) -> Iterator[str]:
    value = given.value
    if action.nargs == 0:
        if not isinstance(value, bool):
            raise ConfigurationError(f"{given.place}: --{name} is true or false")
        yield from [f"--{name}"] if value else []
        return
    several = isinstance(action, argparse._AppendAction)
    if isinstance(value, list) and not several:
        raise ConfigurationError(f"{given.place}: --{name} takes one value, and this is a list")
    for one in value if isinstance(value, list) else [value]:
        if isinstance(one, bool) or not isinstance(one, str | int | float):
            raise ConfigurationError(f'{given.place}: --{name} takes a text or a number, such as "{action.metavar}"')
        yield f"--{name}={one}"
