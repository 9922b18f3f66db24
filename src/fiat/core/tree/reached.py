"""Who gets how far into a tree."""

from typing import NamedTuple

import numpy as np

from fiat.core.tree.setrows import Numbers, SetTable


class Reach(NamedTuple):
    """Who reaches a place: as they are, and as the programs that they run (execve(2) takes capabilities away)."""

    principals: int
    programs: int


class Reached:
    """For each directory of a survey the ``number`` of who reaches what is in it; -1 for anything else.

    ``top`` is the number of who reaches the top itself.
    """

    def __init__(self, number: Numbers, top: int, reaches: "Reaches") -> None:
        self.number = number
        self.top = top
        self.sets = reaches


class Reaches:
    """The distinct reaches, by number."""

    def __init__(self, table: SetTable) -> None:
        self._table = table
        self._known: dict[tuple[int, int], int] = {}
        self.principals = np.zeros(0, np.int32)
        self.programs = np.zeros(0, np.int32)

    def __len__(self) -> int:
        return len(self._known)

    def __getitem__(self, number: int) -> Reach:
        return Reach(self._table[int(self.principals[number])], self._table[int(self.programs[number])])

    def numbers(self, principals: Numbers, programs: Numbers) -> Numbers:
        """The numbers of reaches, given by those of their sets."""
        known = self._known
        pairs = zip(principals.tolist(), programs.tolist(), strict=True)
        found = [known.setdefault(pair, len(known)) for pair in pairs]
        self.principals, self.programs = np.array(list(known), np.int32).reshape(-1, 2).T
        return np.array(found, np.int32)
