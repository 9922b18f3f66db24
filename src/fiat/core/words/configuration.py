"""The configuration, as TOML: settings, and defaults of the options of each command.

    history = "/srv/records/fiat.db"
    snapshots = "/srv/records/snapshots"
    pager = "less -R"
    engine = "tls://reader.example:8786"
    engine-tls = "/etc/fiat/tls"
    system-accounts = ["backup", "deploy"]

    [options.who]
    because = true

What stands in it can be asked for on a command line as well, but for what takes a person's look each time: no guard
is accepted by it.
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.errors import ConfigurationError
from fiat.core.text import near, quoted
from fiat.core.words.toml import parse_toml

TEXTS = ("history", "snapshots", "pager", "engine", "engine-tls")
"""Settings that are a text; those that name a file or a folder begin with a slash."""

_PLACES = ("history", "snapshots", "engine-tls")
NAMES = "system-accounts"
_OPTIONS = "options"
SETTINGS = (*TEXTS, NAMES)


class Given(NamedTuple):
    """A value, and where it stands."""

    value: object
    file: str
    line: int

    @property
    def place(self) -> str:
        """Where it stands, in words."""
        return f"{quoted(self.file)}, line {self.line}"


class Configuration(NamedTuple):
    """What files say: settings by their names, and by the name of a command the defaults of its options."""

    settings: dict[str, Given]
    options: dict[str, dict[str, Given]]

    def over(self, other: Configuration) -> Configuration:
        """This one, and of ``other`` what it does not say."""
        both = dict.fromkeys((*other.options, *self.options))
        options = {name: {**other.options.get(name, {}), **self.options.get(name, {})} for name in both}
        return Configuration({**other.settings, **self.settings}, options)


NOTHING = Configuration({}, {})


def parse_configuration(data: bytes, file: str) -> Configuration:
    """The configuration that the file holds; :class:`ConfigurationError` names the line of what is wrong."""
    found = parse_toml(data, file, ConfigurationError)
    lines = _Lines(data.decode())
    settings = {}
    for name, value in found.items():
        if name == _OPTIONS:
            continue
        given = Given(value, file, lines.of((name,)))
        if name not in SETTINGS:
            raise ConfigurationError(
                f"{given.place}: there is no setting {quoted(name)}{near(name, (*SETTINGS, _OPTIONS))}; "
                f"there are {', '.join(SETTINGS)}, and [options.COMMAND]"
            )
        _expect_setting(name, given)
        settings[name] = given
    options: dict[str, dict[str, Given]] = {}
    tables = found.get(_OPTIONS, {})
    if not isinstance(tables, dict):
        where = f"{quoted(file)}, line {lines.of((_OPTIONS,))}"
        raise ConfigurationError(f"{where}: options is no table; write [options.who]")
    for command, table in tables.items():
        if not isinstance(table, dict):
            where = f"{quoted(file)}, line {lines.of((_OPTIONS, command))}"
            hint = "write [options.COMMAND] above it"
            raise ConfigurationError(f"{where}: {quoted(command)} stands in no command's table; {hint}")
        options[command] = {
            name: Given(value, file, lines.of((_OPTIONS, command, name))) for name, value in table.items()
        }
    return Configuration(settings, options)


def _expect_setting(name: str, given: Given) -> None:
    value = given.value
    if name == NAMES:
        if not (isinstance(value, list) and all(isinstance(one, str) and one for one in value)):
            raise ConfigurationError(f'{given.place}: {name} is a list of names, such as ["backup"]')
    elif not isinstance(value, str) or not value or "\0" in value:
        raise ConfigurationError(f'{given.place}: {name} is a text, such as "{_EXAMPLES[name]}"')
    elif name in _PLACES and not value.startswith("/"):
        raise ConfigurationError(f"{given.place}: {name} is {quoted(value)}, and must begin with a slash")


_EXAMPLES = {
    "history": "/srv/records/fiat.db",
    "snapshots": "/srv/records/snapshots",
    "pager": "less -R",
    "engine": "tls://reader.example:8786",
    "engine-tls": "/etc/fiat/tls",
}


class _Lines:
    """In which line each key of TOML stands: tomllib does not tell."""

    def __init__(self, text: str) -> None:
        self._known: dict[tuple[str, ...], int] = {}
        table: tuple[str, ...] = ()
        for number, line in enumerate(text.split("\n"), 1):
            stripped = line.strip()
            if stripped.startswith("["):
                header = _keys(f"{stripped.partition(']')[0].lstrip('[')} = 0")
                table = header or table
                self._note(table, number)
            elif "=" in stripped and (key := _keys(f"{stripped.partition('=')[0]} = 0")):
                self._note((*table, *key), number)

    def _note(self, key: tuple[str, ...], number: int) -> None:
        for count in range(1, len(key) + 1):
            self._known.setdefault(key[:count], number)

    def of(self, key: tuple[str, ...]) -> int:
        """The line in which the key stands, or else its table; 1 where neither is found."""
        return next((self._known[some] for some in _beginnings(key) if some in self._known), 1)


def _beginnings(key: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    for count in range(len(key), 0, -1):
        yield key[:count]


def _keys(line: str) -> tuple[str, ...]:
    """The words of the key in ``KEY = 0``; none where it is no such line."""
    try:
        found: object = tomllib.loads(line)
    except ValueError:
        return ()
    words = []
    while isinstance(found, dict) and len(found) == 1:
        ((word, found),) = found.items()
        words.append(word)
    return tuple(words)
