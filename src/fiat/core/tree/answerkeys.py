"""The answers for the entries of a tree: each distinct one once, its sets by their numbers."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.distinct import distinct_columns
from fiat.core.tree.setrows import Crowd, Numbers, SetTable

AnswerKey = tuple[int | None, ...]
"""For each right asked: the set of principals that have it, or None where it does not apply."""


class AnswerKeys:
    """Distinct answers: the numbers of their sets in ``table``, one row for each answer, -1 where none applies.

    ``open`` are in the same way the sets of those of whom it is not known; None where all is.
    """

    def __init__(self, table: SetTable, numbers: Numbers, open: Numbers | None = None) -> None:
        self.table = table
        self.numbers = numbers
        self._open = open

    def __len__(self) -> int:
        return len(self.numbers)

    def __getitem__(self, place: int) -> AnswerKey:
        return tuple([None if number < 0 else self.table[number] for number in self.numbers[place].tolist()])

    def open(self, place: int) -> AnswerKey:
        """For each right those of whom it is not known whether they have it; None where it does not apply."""
        numbers = self.numbers if self._open is None else self._open
        return tuple(
            [
                None if number < 0 else 0 if self._open is None else self.table[number]
                for number in numbers[place].tolist()
            ]
        )

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


def settled(crowd: Crowd, answers: "Answers") -> "Answers":
    """The answers about all whom a crowd stands for, where the groups of some of them are not all known."""
    keys = answers.keys
    table = SetTable(len(crowd.one_of))
    found: dict[int, tuple[int, int]] = {-1: (-1, -1)}
    for number in set(keys.numbers.ravel().tolist()) - {-1}:
        possible = crowd.settled(keys.table.held(number))
        found[number] = table.number(possible.surely), table.number(possible.open)
    pairs = np.array([[found[number] for number in row] for row in keys.numbers.tolist()], np.int32)
    pairs = pairs.reshape(len(keys), keys.numbers.shape[1], 2)
    first, same = distinct_columns(*pairs.reshape(len(keys), -1).T)
    return Answers(same.astype(np.int32)[answers.number], AnswerKeys(table, pairs[first, :, 0], pairs[first, :, 1]))


class Answers(NamedTuple):
    """The number of the answer of each entry that was asked about, into ``keys``."""

    number: Numbers
    keys: AnswerKeys
