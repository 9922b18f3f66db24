"""Seals: they tell whether rows are as they were written."""

from binascii import crc32
from typing import Any

Row = tuple[Any, ...]


class Seal:
    """A sum of rows, in the order in which they come: against damage. Who can write to the file could change it too."""

    def __init__(self) -> None:
        self._sum = 0

    def add(self, row: Row) -> None:
        """The next row. How Python writes numbers, texts and bytes tells any two rows apart."""
        self._sum = crc32(repr(row).encode("utf-8", "backslashreplace"), self._sum)

    def text(self) -> str:
        """The sum so far."""
        return f"{self._sum:08x}"


def seal_of(*rows: Row) -> str:
    """The seal of these rows."""
    seal = Seal()
    for row in rows:
        seal.add(row)
    return seal.text()
