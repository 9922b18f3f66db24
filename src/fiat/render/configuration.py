"""Which files of the configuration are read, and what each setting comes from."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from fiat.app.configuration import ReadFile
from fiat.core.text import Fields, visible
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Table, Verbatim, unbroken


class ShownSetting(NamedTuple):
    """A setting with what it is, and what it comes from."""

    name: str
    value: str
    source: str


class ConfigurationView(PlainResult):
    """The files, in the order in which they count, and the settings."""

    def __init__(self, files: Sequence[ReadFile], settings: Sequence[ShownSetting]) -> None:
        self.files = files
        self.settings = settings

    def records(self) -> Iterator[Fields]:
        """One for each setting."""
        for one in self.settings:
            yield {"setting": one.name, "value": one.value, "source": one.source}

    def envelope(self) -> Fields:
        """The files."""
        return {"files": [{"path": one.path, "used": one.used, "why_not": one.why or None} for one in self.files]}

    def blocks(self) -> Iterator[Block]:
        """The files first, then each setting."""
        if not self.files:
            yield Verbatim("No configuration is read: --config none, or FIAT_CONFIG=none, says so.")
        else:
            yield Verbatim("Files, each counts before those above it:")
            for one in self.files:
                style, word = ("yes", "read") if one.used else ("no", "not used") if one.why else ("faint", "not there")
                yield Verbatim([f"{visible(one.path)}  ", Span(word, style)], 1)
                if one.why:
                    yield Prose(one.why, 2)
        yield BLANK
        rows = [[one.name, unbroken(visible(one.value)), one.source] for one in self.settings]
        yield Table(["setting", "is", "from"], rows, flexible=(2,))
