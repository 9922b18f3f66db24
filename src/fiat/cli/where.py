"""``fiat --where``: which files of the configuration are read, and what each setting comes from; and ``--config``."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from fiat.app.configuration import Configured, Settings
from fiat.core.errors import NotationError

if TYPE_CHECKING:
    from fiat.core.words.configuration import Configuration
    from fiat.render.configuration import ShownSetting

_CONFIG = "--config"


def configuration_named(arguments: Sequence[str]) -> tuple[str | None, list[str]]:
    """The file after --config, which stands before the command, and what is left of the command line."""
    named: str | None = None
    rest = list(arguments)
    while rest and (rest[0] == _CONFIG or rest[0].startswith(f"{_CONFIG}=")):
        word = rest.pop(0)
        if word != _CONFIG:
            named = word.partition("=")[2]
        elif rest:
            named = rest.pop(0)
        else:
            named = ""
        if not named:
            raise NotationError(_CONFIG, "--config names no file; write --config FILE, or --config none")
    return named, rest


def where(found: Configured, arguments: Sequence[str]) -> int:
    """Tell it; the exit status."""
    from fiat.cli.options.common import add_format, output_of
    from fiat.cli.parser import Parser
    from fiat.render.configuration import ConfigurationView

    parser = Parser(prog="fiat --where", usage="fiat [--config FILE] --where [OPTION…]")
    add_format(parser, ("text", "json", "csv"))
    args = parser.parse_args(list(arguments))
    if found.found is not None:
        _check_all(found.found)
    output = output_of("where", args)
    output.add(ConfigurationView(found.files, list(_settings(found))))
    return output.finish()


_VARIABLES = {"pager": "FIAT_PAGER", "engine": "FIAT_ENGINE", "engine-tls": "FIAT_ENGINE_TLS"}


def _settings(found: Configured) -> Iterator[ShownSetting]:
    from fiat.app.past import usual_history
    from fiat.render.configuration import ShownSetting

    given = {} if found.found is None else found.found.settings
    usual = {"history": usual_history(), "pager": os.environ.get("PAGER", "")}
    for field in Settings._fields:
        name = field.replace("_", "-")
        variable = _VARIABLES.get(name, "")
        if os.environ.get(variable):
            yield ShownSetting(name, os.environ[variable], f"the environment, {variable}")
        elif name in given:
            value = given[name].value
            told = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
            yield ShownSetting(name, told, given[name].place)
        elif name == "pager" and usual["pager"]:
            yield ShownSetting(name, usual["pager"], "the environment, PAGER")
        else:
            yield ShownSetting(name, usual.get(name) or "none", "by itself")
    if os.environ.get("FIAT_ACCOUNTS"):
        yield ShownSetting("accounts", os.environ["FIAT_ACCOUNTS"], "the environment, FIAT_ACCOUNTS")
    if found.found is not None:
        for command, table in sorted(found.found.options.items()):
            for option, one in table.items():
                value = str(one.value).lower() if isinstance(one.value, bool) else str(one.value)
                yield ShownSetting(f"{command} --{option}", value, one.place)


def _check_all(found: Configuration) -> None:
    """Raise :class:`fiat.core.errors.ConfigurationError` for whatever is wrong for any command."""
    from fiat.cli.configuration import ALL, expect_commands, words_for
    from fiat.cli.registry import load, names

    commands = [*names()]
    expect_commands(found, commands)
    for command in found.options:
        if command != ALL:
            words_for(command, commands, load(command).parser, found, ())
