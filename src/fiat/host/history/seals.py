"""Seals: they tell whether rows are as they were written."""

from binascii import crc32
from typing import Any

Row = tuple[Any, ...]

_TOGETHER = 500
"""Rows that are added at once; the sum is the same."""


class Seal:
    """A sum of rows, in the order in which they come: against damage. Who can write to the file could change it too."""

    def __init__(self) -> None:
        self._sum = 0
        self._waiting: list[str] = []

    def add(self, row: Row) -> None:
        """The next row. How Python writes numbers, texts and bytes tells any two rows apart."""
        self._waiting.append(repr(row))
        if len(self._waiting) == _TOGETHER:
            self._add_waiting()

    def _add_waiting(self) -> None:
        self._sum = crc32("".join(self._waiting).encode("utf-8", "backslashreplace"), self._sum)
        self._waiting.clear()

    def text(self) -> str:
        """The seal of what was added so far: CRC-32, in eight hexadecimal digits."""
        self._add_waiting()
        return f"{self._sum:08x}"


def sum_of(text: str) -> int:
    """A number that stands for a long text in a row that is sealed."""
    return crc32(text.encode("utf-8", "backslashreplace"))


def seal_of(*rows: Row) -> str:
    """The seal of these rows."""
    seal = Seal()
    for row in rows:
        seal.add(row)
    return seal.text()
