"""Rows of text about the entries of a tree, and the order of its names, by ``fiat._native``.

What a name looks like that is not plain ASCII, and where it stands among others, is worked out in Python.
"""

import os
from collections.abc import Callable, Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.survey import Survey
from fiat.engine.compiled import compiled

VISIBLE, CSV, JSON = range(3)
"""How a path is written: with escapes; as a cell of CSV, where it is put between quotation marks as a whole; or as it
stands between those of JSON. As laying.c has them."""

_ROWS = 20_000
"""Rows that are made together."""


class Shared(NamedTuple):
    """Of each row the one of the ``texts`` that has this number; texts that no row has may be None."""

    texts: Sequence[str | None]
    number: NDArray[np.int64]


class Listed(NamedTuple):
    """Of each entry a number: of a directory is written the one that all in it have, or a list; of ``large`` ones, that
    are near each other, how much more each is than the least."""

    values: NDArray[Any]
    large: bool


class Names:
    """The names of what is in each directory, as a list."""


Column = str | Shared | NDArray[np.int64] | None
"""What stands in each row: the same text; a shared one; a number; or, for None, the path."""


ListColumn = Column | Listed | Names


class CompiledRows:
    """Lays out rows about the entries of a survey; paths begin with what is ``above``, and that of the top is what
    stands ``alone``."""

    def __init__(self, paths: Any, above: bytes, alone: bytes) -> None:
        self._paths = paths
        self._above = above
        self._alone = alone

    def rows(
        self,
        places: NDArray[np.int64],
        columns: Callable[[NDArray[np.int64]], Sequence[Column]],
        *,
        strip: bool = False,
    ) -> Iterator[str]:
        """A line for each of the places, some thousand at a time, each with its end; ``columns`` are those of some.

        With ``strip``, no line ends with spaces.
        """
        for first in range(0, len(places), _ROWS):
            some = np.ascontiguousarray(places[first : first + _ROWS], np.int64)
            yield self._paths.rows(some, [*map(_given, columns(some))], self._above, self._alone, strip)

    def lists(
        self,
        directories: NDArray[np.int64],
        entries: NDArray[np.int64],
        bounds: NDArray[np.int64],
        columns: Sequence[ListColumn],
    ) -> str:
        """A line for each directory, with its end: ``entries`` from one of the ``bounds`` to the next are in it."""
        given = (np.ascontiguousarray(one, np.int64) for one in (directories, entries, bounds))
        lines: str = self._paths.lists(*given, [*map(_given, columns)], self._above, self._alone)
        return lines


def _given(column: ListColumn) -> Any:
    """A column as the compiled part takes it."""
    if isinstance(column, Names):
        return ()
    if isinstance(column, Listed):
        positive = column.values.dtype.kind == "u"
        return np.ascontiguousarray(column.values, np.uint64 if positive else np.int64), column.large, positive
    if isinstance(column, Shared):
        return list(column.texts), np.ascontiguousarray(column.number, np.int64)
    return column if column is None or isinstance(column, str) else np.ascontiguousarray(column, np.int64)


def rows_of(survey: Survey, quoting: int, written: Callable[[str], str], top: str | None = None) -> CompiledRows | None:
    """What lays out rows about a tree; None where there is no compiled part.

    ``written`` gives the text of a name, or for :data:`CSV` of a path, that is not plain. ``top`` is put in
    place of the top's path, and ends in a slash or is empty.
    """
    paths = _paths(survey, quoting, lambda name: written(os.fsdecode(name)))
    if paths is None:
        return None
    above = survey.top.path.rstrip("/") + "/" if top is None else top
    return CompiledRows(paths, os.fsencode(above), os.fsencode(survey.top.path if top is None else top))


def sorter_of(survey: Survey) -> "Callable[[NDArray[np.int64], NDArray[np.int64]], tuple[bool, list[int]]] | None":
    """What puts the entries of each directory in the order of :func:`fiat.core.text.natural_order`; None where there
    is no compiled part.

    It sorts in place the entries between each two of the bounds, and tells whether that changed anything, and the
    numbers of those that it left as they were, because of names that are not ASCII.
    """
    paths = _paths(survey, VISIBLE, lambda name: "")
    return None if paths is None else paths.sort


def _paths(survey: Survey, quoting: int, written: Callable[[bytes], str]) -> Any:
    native = compiled()
    if native is None:
        return None
    data, starts, lengths = survey.bytes_of_names()
    return native.Paths(
        data,
        np.ascontiguousarray(starts, np.uint64),
        np.ascontiguousarray(lengths, np.uint16),
        np.ascontiguousarray(survey.parent, np.int32),
        quoting,
        written,
    )
