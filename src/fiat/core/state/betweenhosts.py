"""Which hosts deviate from what most have: postures of the same paths, and who has which right there.

It takes two rounds. In the first each host says, in hashes, what is at each of its paths (:class:`Said`), and only how
many say it is kept. In the second each is told which of them are worth telling, and says these in full.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Hashes = NDArray[np.uint64]


class Said(NamedTuple):
    """What a host says: for each the hash of where it is said (a path, and what kind of thing is said of it), and that
    of where and what together."""

    where: Hashes
    both: Hashes


class Most:
    """How many hosts say what, and where."""

    def __init__(self) -> None:
        self._waiting: list[Said] = []
        self._held = 0
        self._both = np.empty(0, np.uint64)
        self._where = np.empty(0, np.uint64)
        self._count = np.empty(0, np.int64)
        self.hosts = 0

    def take(self, said: Said) -> None:
        """Take what one more host says."""
        self.hosts += 1
        self._waiting.append(said)
        self._held += len(said.both)
        if self._held > max(len(self._both), 1_000_000):  # what is put together is gone through again each time
            self._put_together()

    def _put_together(self) -> None:
        both = np.concatenate([self._both, *(said.both for said in self._waiting)])
        where = np.concatenate([self._where, *(said.where for said in self._waiting)])
        ones = np.ones(len(both) - len(self._count), np.int64)
        count = np.concatenate([self._count, ones])
        self._both, first, number = np.unique(both, return_index=True, return_inverse=True)
        self._where = where[first]
        self._count = np.bincount(number, weights=count, minlength=len(self._both)).astype(np.int64)
        self._waiting, self._held = [], 0

    def worth_telling(self) -> "WorthTelling":
        """What is said where hosts differ; and where most have something that others lack."""
        self._put_together()
        order = np.lexsort((self._both, -self._count, self._where))
        where, both, count = self._where[order], self._both[order], self._count[order]
        if not len(where):
            return WorthTelling(both, both, both, 0)
        first = np.append(True, where[1:] != where[:-1])
        number = np.cumsum(first) - 1
        having = np.bincount(number, weights=count).astype(np.int64)
        different = np.bincount(number) > 1
        missing = (having < self.hosts) & (having * 2 > self.hosts)
        most = both[first]
        return WorthTelling(
            both[(different | missing)[number]],
            most[different | missing],
            where[first][missing],
            int(((having * 2 <= self.hosts) & (having < self.hosts)).sum()),
        )


class WorthTelling(NamedTuple):
    """What is to be told in full, ``both`` where and what; which of it ``most`` hosts say; where what most have is
    ``missing`` on some; and how many places are ``rare``: only few hosts have anything there."""

    both: Hashes
    most: Hashes
    missing: Hashes
    rare: int

    def sorted(self) -> "WorthTelling":
        """For being looked up."""
        return self._replace(both=np.sort(self.both), most=np.sort(self.most), missing=np.sort(self.missing))


def among(wanted: Hashes, given: Hashes) -> NDArray[np.bool_]:
    """Which of the ``given`` are ``wanted``, which are in order."""
    if not len(wanted):
        return np.zeros(len(given), np.bool_)
    place = np.searchsorted(wanted, given)
    place[place == len(wanted)] = 0
    return np.asarray(wanted[place] == given)
