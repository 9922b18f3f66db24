"""Results as Parquet (``--format parquet``; ``pip install 'fiat[tables]'``): a row for each path, written as it goes.

What many rows have in common is dictionary-encoded: it is worked out once for each profile, or each answer. Paths are
text as CSV has it; ``path_bytes`` are those of a path of which that is not just the same.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fiat.core.errors import HostError
from fiat.core.text import Fields, visible
from fiat.render.lines import csv_cell

try:
    import pyarrow
    import pyarrow.parquet
except ImportError as error:
    raise HostError("--format parquet needs pyarrow: pip install 'fiat[tables]' gets it") from error

ROWS = 100_000
"""Rows that are written together."""

_NUMBERS = frozenset(("uid", "gid", "links", "size", "paths"))


def path_columns(paths: Sequence[str]) -> dict[str, Any]:
    """The columns with the paths."""
    shown = [visible(path) for path in paths]
    raw = [None if path == text else os.fsencode(path) for path, text in zip(paths, shown, strict=True)]
    return {"path": pyarrow.array(shown, pyarrow.string()), "path_bytes": pyarrow.array(raw, pyarrow.binary())}


def times(nanoseconds: NDArray[np.int64]) -> Any:
    """A column of times, to the second as everywhere else; null where unknown."""
    known = nanoseconds // 10**9
    return pyarrow.array(known, pyarrow.timestamp("s", tz="UTC"), mask=nanoseconds == 0)


class Alike:
    """Columns of what rows have in common: made once for each kind of row that is met, by its number."""

    def __init__(self) -> None:
        self._places: dict[int, int] = {}
        self._rows: list[Fields] = []

    def columns(self, numbers: NDArray[np.int64], of: Any) -> dict[str, Any]:
        """The columns of rows of these kinds; ``of`` makes the fields of one, in the same order each time."""
        distinct, place = np.unique(numbers, return_inverse=True)
        for number in distinct.tolist():
            if number not in self._places:
                self._places[number] = len(self._rows)
                self._rows.append(of(number))
        rows = [self._rows[self._places[number]] for number in distinct.tolist()]
        names = self._rows[0] if self._rows else {}
        return {name: _taken(name, [row[name] for row in rows], place.reshape(-1)) for name in names}


def _taken(name: str, values: list[Any], place: NDArray[np.int64]) -> Any:
    """The column in which each row has the value at its place."""
    if name in _NUMBERS:
        return pyarrow.array(values, pyarrow.int64()).take(pyarrow.array(place))
    if name.endswith("anyone_else"):
        return pyarrow.array(values, pyarrow.bool_()).take(pyarrow.array(place))
    known = pyarrow.array([_cell(value) for value in values], pyarrow.string()).dictionary_encode()
    indices = known.indices.take(pyarrow.array(place))
    return pyarrow.DictionaryArray.from_arrays(indices, known.dictionary)


def _cell(value: Any) -> str | None:
    """As in CSV, but null for what is not known or does not apply."""
    return None if value is None else csv_cell(value)


def of_rows(rows: Iterable[Fields], names: Sequence[str]) -> Any:
    """A table of flat rows with these fields."""
    found = list(rows)
    numbers = np.arange(len(found), dtype=np.int64)
    columns = path_columns([row["path"] for row in found])
    for name in names:
        if name != "path":
            columns[name] = _taken(name, [row[name] for row in found], numbers)
    return pyarrow.table(columns)


class TableWriter:
    """Writes tables one after the other, all of the same columns, to the output."""

    def __init__(self) -> None:
        self._writer: Any = None

    def write(self, tables: Iterator[Any]) -> None:
        """Write them as they come. Raises OSError."""
        for table in tables:
            if self._writer is None:
                stream = pyarrow.PythonFile(sys.stdout.buffer, mode="w")
                self._writer = pyarrow.parquet.ParquetWriter(stream, table.schema, compression="zstd")
            self._writer.write_table(table.cast(self._writer.schema))

    def close(self) -> None:
        """Write what stands at the end."""
        if self._writer is not None:
            self._writer.close()
            sys.stdout.buffer.flush()


def as_bytes(tables: Iterator[Any]) -> bytes:
    """All of them as one file."""
    sink = pyarrow.BufferOutputStream()
    writer: Any = None
    for table in tables:
        writer = writer or pyarrow.parquet.ParquetWriter(sink, table.schema, compression="zstd")
        writer.write_table(table.cast(writer.schema))
    if writer is None:
        return b""
    writer.close()
    found: bytes = sink.getvalue().to_pybytes()
    return found


def of_host(data: bytes, host: str) -> Iterator[Any]:
    """The tables in a file, with a first column for the host that they are of."""
    file = pyarrow.parquet.ParquetFile(pyarrow.BufferReader(data))
    for number in range(file.num_row_groups):
        table = file.read_row_group(number)
        column = pyarrow.array([host] * len(table), pyarrow.string()).dictionary_encode()
        yield table.add_column(0, "host", column)
