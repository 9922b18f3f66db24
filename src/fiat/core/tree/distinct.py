"""Which of many numbers are the same."""

from functools import cache
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

Value = TypeVar("Value", bound=np.generic)

_MIX = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9, 0xD6E8FEB86659FD93], np.uint64)
_HALF = np.uint64(32)
_FEW = 1 << 16


def distinct_values(values: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
    """The distinct values, and for each value its place among them."""
    if not len(values):
        return values, np.zeros(0, np.int32)
    most = int(values.max()) + 1
    if most > max(4 * len(values), _FEW):
        first, places = distinct_columns(values)
        return values[first], places.astype(np.int32)
    # few enough to count them off, which is faster than sorting
    seen = np.zeros(most, np.bool_)
    seen[values] = True
    distinct = np.flatnonzero(seen)
    number = np.zeros(most, np.int32)
    number[distinct] = np.arange(len(distinct), dtype=np.int32)
    return distinct, number[values]


def distinct(values: NDArray[Value]) -> NDArray[Value]:
    """The distinct values of an array, ascending. NumPy's own loads a module for masked arrays, of 15 ms."""
    found = np.sort(values)
    return found[np.append(True, found[1:] != found[:-1])] if len(found) else found


def each_once(values: NDArray[Any]) -> list[int]:
    """The distinct numbers of an array, ascending."""
    found: list[int] = distinct(values).tolist()
    return found


def first_places(numbers: NDArray[Any], count: int) -> NDArray[np.int64]:
    """For each number below ``count`` the first place where it stands; the number of places where that is nowhere."""
    found = np.full(count, len(numbers), np.int64)
    found[numbers[::-1]] = np.arange(len(numbers) - 1, -1, -1)  # of several the last one counts
    return found


def distinct_columns(*columns: NDArray[Any]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """A place of each distinct combination of what stands in the columns, and for each place the combination's number.

    Combinations are numbered in the order of the first column, then the next.
    """
    key = columns[0]
    for column in columns[1:]:
        before, after = _sorted(key)[1], _sorted(column)[1]
        key = before * (int(after.max()) + 1 if len(after) else 1) + after
    return _sorted(key)


def distinct_rows(rows: NDArray[np.uint64]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """A place of each distinct row of up to four numbers, and for each row its place among the distinct ones.

    Rows are compared by a 64-bit mixture of their columns; should two rows
    ever have the same mixture, they are compared whole.
    """
    mixed = np.zeros(len(rows), np.uint64)
    for column, by in zip(rows.T, _MIX, strict=False):
        mixed ^= column
        mixed *= by
        mixed ^= mixed >> _HALF
    first, places = _sorted(mixed)
    return (first, places) if (rows == rows[first][places]).all() else distinct_columns(*rows.T)


def distinct_wide_rows(rows: NDArray[np.uint64]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """As :func:`distinct_rows`, of rows of any width; not one is left out, but rows that are the same may stand as
    several where two others have the same mixture."""
    mixed = (rows ^ (rows >> _HALF)) @ _multipliers(rows.shape[1])
    first, places = _sorted(mixed)
    if (rows == rows[first][places]).all():
        return first, places
    each = np.arange(len(rows))
    return each, each


@cache
def _multipliers(count: int) -> NDArray[np.uint64]:
    """Odd numbers of 64 bits, each by itself."""
    numbers = np.arange(1, count + 1, dtype=np.uint64) * _MIX[0]
    numbers ^= numbers >> _HALF
    numbers *= _MIX[3]
    odd: NDArray[np.uint64] = (numbers ^ (numbers >> _HALF)) | np.uint64(1)
    return odd


def _sorted(values: NDArray[Any]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """A place of each distinct value, ascending, and for each value its place among the distinct ones."""
    order = values.argsort()
    found = values[order]
    starts = np.ones(len(found), np.bool_)
    np.not_equal(found[1:], found[:-1], out=starts[1:])
    places = np.empty(len(found), np.intp)
    places[order] = np.cumsum(starts) - 1
    return order[starts], places
