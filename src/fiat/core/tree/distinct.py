"""Which of many numbers are the same."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

_MIX = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9, 0xD6E8FEB86659FD93], np.uint64)
_FEW = 1 << 16


def distinct_values(values: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
    """The distinct values, and for each value its place among them."""
    if not len(values):
        return values, np.zeros(0, np.int32)
    most = int(values.max()) + 1
    if most > max(4 * len(values), _FEW):
        distinct, places = np.unique(values, return_inverse=True)
        return distinct, places.astype(np.int32)
    # few enough to count them off, which is faster than sorting
    seen = np.zeros(most, np.bool_)
    seen[values] = True
    distinct = np.flatnonzero(seen)
    number = np.zeros(most, np.int32)
    number[distinct] = np.arange(len(distinct), dtype=np.int32)
    return distinct, number[values]


def distinct_columns(*columns: NDArray[Any]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """The first place of each distinct combination of what stands in the columns, and for each place the combination's.

    Combinations are numbered in the order of the first column, then the next.
    """
    key = columns[0]
    for column in columns[1:]:
        before, after = (np.unique(one, return_inverse=True) for one in (key, column))
        key = before[1].astype(np.int64) * len(after[0]) + after[1]
    _, first, places = np.unique(key, return_index=True, return_inverse=True)
    return first, places.reshape(-1)


def distinct_rows(rows: NDArray[np.uint64]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """The first place of each distinct row of up to four numbers, and for each row its place among the distinct ones.

    Rows are compared by a 64-bit mixture of their columns; should two rows
    ever have the same mixture, they are compared whole.
    """
    mix = _MIX[: rows.shape[1]]
    mixed = rows * mix
    mixed ^= mixed >> np.uint64(29)
    _, first, places = np.unique((mixed * mix).sum(axis=1), return_index=True, return_inverse=True)
    if not (rows == rows[first][places]).all():
        _, first, places = np.unique(rows, axis=0, return_index=True, return_inverse=True)
    return first, places.reshape(-1)
