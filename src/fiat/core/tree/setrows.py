"""Sets of principals for many postures at once: rows of 64-bit words, one for each posture."""

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.crowd import Crowd
from fiat.core.tree.distinct import distinct_columns, distinct_values

Numbers = NDArray[np.int32]

Words = NDArray[np.uint64]
"""Rows of words. Bit ``i`` of a set is bit ``i % 64`` of word ``i // 64``."""

_WORD = np.dtype("<u8")
_AT_ONCE = 1 << 20
"""Bytes of rows that are worked on at a time: more would not stay near the processor."""


class Rows:
    """Rows for a universe of ``count`` principals; a :class:`~fiat.core.model.sets.Sets`."""

    def __init__(self, count: int) -> None:
        self.words = max(-(-count // 64), 1)
        self.at_once = max(_AT_ONCE // (8 * self.words), 64)
        self._all = (1 << 64 * self.words) - 1

    def constant(self, bits: int) -> Words:
        """One row, which goes with any number of others."""
        return self.of((bits,))

    def of(self, sets: Iterable[int]) -> Words:
        """A row for each whole number."""
        size = self.words * 8
        data = b"".join([(bits & self._all).to_bytes(size, "little") for bits in sets])
        return np.frombuffer(data, _WORD).reshape(-1, self.words)

    def each(self, of: Callable[..., int], *numbers: NDArray[np.int64]) -> Words:
        """A row for each place of the columns ``numbers``; ``of`` is asked once for each distinct combination."""
        first, places = distinct_columns(*numbers)
        columns = [column[first].tolist() for column in numbers]
        return self.of(map(of, *columns))[places]

    def where(self, condition: NDArray[np.bool_], principals: Words) -> Words:
        """The rows of ``principals`` where the condition holds, empty ones elsewhere."""
        kept = np.negative(condition.astype(np.int64)).view(np.uint64)  # all of the bits, or none
        return principals & kept[:, None]

    def bytes_of(self, rows: Words) -> list[bytes]:
        """The bytes of each row, which tell whether two are the same."""
        whole = np.ascontiguousarray(rows)
        found: list[Any] = whole.view(np.dtype((np.void, self.words * 8))).reshape(-1).tolist()
        return found


class SetTable:
    """Distinct sets, each held once and known by its number.

    Their principals may be those of a ``crowd``.
    """

    def __init__(self, count: int, crowd: Crowd | None = None) -> None:
        self.sets = Rows(count)
        self.crowd = crowd
        self._known: dict[bytes, int] = {}
        self._keys: list[bytes] = []
        self._rows: Words | None = None

    def __len__(self) -> int:
        return len(self._keys)

    def __getitem__(self, number: int) -> int:
        """The set as a whole number: of all that its principals stand for, where these are a crowd."""
        bits = int.from_bytes(self._keys[number], "little")
        return bits if self.crowd is None else self.crowd.spread(bits)

    def number(self, bits: int) -> int:
        """The number of one set."""
        return int(self.numbers(self.sets.constant(bits))[0])

    def numbers_of(self, sets: Iterable[int]) -> Numbers:
        """The number of each of several sets."""
        return self.numbers(self.sets.of(sets))

    def numbers(self, rows: Words) -> Numbers:
        """The number of the set in each row."""
        known, keys = self._known, self._keys
        found = []
        for key in self.sets.bytes_of(rows):
            number = known.get(key)
            if number is None:
                number = known[key] = len(keys)
                keys.append(key)
            found.append(number)
        return np.array(found, np.int32)

    def both(self, ones: Numbers, others: Numbers) -> Numbers:
        """The numbers of what sets have in common, two and two; -1 where the first is -1."""
        count = len(self) + 1
        distinct, places = distinct_values((ones.astype(np.int64) + 1) * count + others)
        found = np.full(len(distinct), -1, np.int32)
        for first in range(0, len(distinct), self.sets.at_once):
            some = distinct[first : first + self.sets.at_once]
            there = np.flatnonzero(some >= count)
            one, other = some[there] // count - 1, some[there] % count
            rows = self._all_rows(count - 1)
            found[first + there] = self.numbers(rows[one] & rows[other])
        return found[places]

    def meeting(self, bits: int) -> NDArray[np.bool_]:
        """For each set, whether any of the principals in ``bits`` is in it."""
        if self.crowd is not None:
            bits = self.crowd.standing_for(bits)
        found: NDArray[np.bool_] = np.any(self._all_rows(len(self)) & self.sets.constant(bits), axis=1)
        return found

    def rows_of(self, numbers: Numbers) -> Words:
        """The sets with these numbers as rows."""
        return self._all_rows(len(self))[numbers]

    def _all_rows(self, count: int) -> Words:
        """The first ``count`` sets, or more, as rows."""
        if self._rows is None or len(self._rows) < count:
            self._rows = np.frombuffer(b"".join(self._keys), _WORD).reshape(-1, self.sets.words)
        return self._rows
