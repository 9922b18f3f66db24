"""The answers for the entries of a tree: each distinct one once, its sets by their numbers."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.setrows import Numbers, SetTable

AnswerKey = tuple[int | None, ...]
"""For each right asked: the set of principals that have it, or None where it does not apply."""


class AnswerKeys:
    """Distinct answers: the numbers of their sets in ``table``, one row for each answer, -1 where none applies."""

    def __init__(self, table: SetTable, numbers: Numbers) -> None:
        self.table = table
        self.numbers = numbers

    def __len__(self) -> int:
        return len(self.numbers)

    def __getitem__(self, place: int) -> AnswerKey:
        return tuple([None if number < 0 else self.table[number] for number in self.numbers[place].tolist()])

    def holding(self, bits: int, right: int) -> NDArray[np.bool_]:
        """For each answer, whether any of the principals in ``bits`` has the right at this place."""
        numbers = self.numbers[:, right]
        found = numbers >= 0
        found[found] = self.table.meeting(bits)[numbers[found]]
        return found

    def held_by_more(self, bits: int, right: int, than: int) -> NDArray[np.bool_]:
        """For each answer, whether more than so many of the principals in ``bits`` have the right at this place."""
        numbers = self.numbers[:, right]
        more = {
            number: (self.table[number] & bits).bit_count() > than for number in set(numbers[numbers >= 0].tolist())
        }
        return np.array([more.get(number, False) for number in numbers.tolist()], np.bool_)


class Answers(NamedTuple):
    """The number of the answer of each entry that was asked about, into ``keys``."""

    number: Numbers
    keys: AnswerKeys
