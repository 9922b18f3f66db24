"""A table that is printed while it is being made, for lists too long to wait for."""

import sys
import time
from collections.abc import Sequence

from fiat.render import terminal

_BATCH = 400
_PATIENCE = 0.1  # seconds
_NARROWEST = 20


class Columns:
    """Rows under a header, the last column free.

    The first rows, as many as come in a tenth of a second, set the widths;
    later rows may widen a column, never narrow it.
    """

    def __init__(self, header: Sequence[str]) -> None:
        self._header = header
        self._columns = terminal.width()
        self._widths = [len(cell) for cell in header]
        self._waiting: list[Sequence[str]] = []
        self._since = time.monotonic()
        self._begun = False

    def add(self, row: Sequence[str]) -> None:
        """Take one row; it is printed soon."""
        self._waiting.append(row)
        if len(self._waiting) >= _BATCH or time.monotonic() - self._since > _PATIENCE:
            self.flush()

    def flush(self) -> None:
        """Print what is waiting."""
        for row in self._waiting:
            for place, cell in enumerate(row[:-1]):
                self._widths[place] = max(self._widths[place], terminal.cells(cell))
        if self._waiting and not self._begun:
            self._begun = True
            print(terminal.paint(self._line(self._header), "faint"))
        for row in self._waiting:
            print(self._line(row))
        sys.stdout.flush()
        self._waiting.clear()
        self._since = time.monotonic()

    def _line(self, row: Sequence[str]) -> str:
        cells = [
            cell + " " * (width - terminal.cells(cell)) for cell, width in zip(row[:-1], self._widths, strict=False)
        ]
        before = terminal.INDENT + "  ".join([*cells, ""])
        room = None if self._columns is None else max(self._columns - terminal.cells(before), _NARROWEST)
        if room is None or terminal.cells(row[-1]) <= room:
            return (before + row[-1]).rstrip()
        # a long name goes on below itself, so that the columns before it can still be read
        parts = [row[-1][start : start + room] for start in range(0, len(row[-1]), room)]
        return ("\n" + " " * terminal.cells(before)).join([before + parts[0], *parts[1:]])
