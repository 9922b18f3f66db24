"""The configuration of this machine and of whoever acts, and what it sets.

What counts, the first before all others: the command line, the environment, the file that is named for this once,
the file of whoever acts, that of the machine, and what Fiat does by itself.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from fiat.core.errors import PathError
from fiat.host import configuration as files

if TYPE_CHECKING:
    from fiat.core.words.configuration import Configuration

LARGEST = 1 << 20
"""Bytes of a file of the configuration."""

NONE = "none"
"""In place of a file: no configuration is read."""


class ReadFile(NamedTuple):
    """A file that was looked for: whether it is ``used``, and else ``why`` not."""

    path: str
    used: bool
    why: str


class Settings(NamedTuple):
    """What the configuration sets for every command; None where it says nothing."""

    history: str | None = None
    snapshots: str | None = None
    pager: str | None = None
    engine: str | None = None
    engine_tls: str | None = None
    system_accounts: frozenset[str] = frozenset()


NO_SETTINGS = Settings()


class Configured(NamedTuple):
    """The configuration, the files that it comes from, and its settings; None where there is no file."""

    files: Sequence[ReadFile]
    found: Configuration | None
    settings: Settings


def configured(named: str | None = None, environment: Mapping[str, str] = os.environ) -> Configured:
    """What the usual files say, and before them the file that is ``named``, or that FIAT_CONFIG names.

    :data:`NONE` in place of a file has none read at all. Raises :class:`fiat.core.errors.ConfigurationError`,
    :class:`fiat.core.errors.UntrustedFile`, and :class:`PathError` where the file that is named cannot be read.
    """
    named = named or environment.get("FIAT_CONFIG") or None
    if named == NONE:
        return Configured((), None, NO_SETTINGS)
    looked: list[ReadFile] = []
    texts: list[tuple[str, bytes]] = []
    for path in files.usual_places():
        one = files.found(path, LARGEST)
        looked.append(ReadFile(path, one.data is not None, one.why))
        if one.data is not None:
            texts.append((path, one.data))
    if named is not None:
        try:
            texts.append((named, files.read(named, LARGEST)))
        except OSError as error:
            own = error.strerror or ""
            number = error.errno or 5
            raise PathError(named, number, "read", own if own != os.strerror(number) else "") from error
        looked.append(ReadFile(named, True, ""))
    if not texts:
        return Configured(looked, None, NO_SETTINGS)
    from fiat.core.words.configuration import NOTHING, parse_configuration  # loads what reads TOML

    found = NOTHING
    for path, data in texts:
        found = parse_configuration(data, path).over(found)
    return Configured(looked, found, _settings(found))


def _settings(found: Configuration) -> Settings:
    values = {name.replace("-", "_"): given.value for name, given in found.settings.items()}
    names = values.pop("system_accounts", ())
    assert isinstance(names, list | tuple)
    texts = {name: str(value) for name, value in values.items()}
    return Settings(**texts, system_accounts=frozenset(map(str, names)))
