"""What decides of the profiles of a tree, in columns: many postures whose entries have the same tags at once."""

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.principals import Universe
from fiat.core.rules.decision import NOBODY_NAMED, Grounds, granted, overriding, partition
from fiat.core.rules.effective import deciding_entries, left_by_mask, passes_over_list, permissions_by_entry
from fiat.core.tree.profiles import Profiles
from fiat.core.tree.setrows import SetTable

_IN_FORCE = 0o777
"""A mode with which no list is passed over."""

_PLAIN = 0


class _Lists(NamedTuple):
    """Lists whose entries have the same ``tags``: in rows what the mask leaves, and who is named (0 for nobody)."""

    tags: tuple[Tag, ...]
    left: NDArray[np.int64]
    named: NDArray[np.int64]


class GroundsOfMany:
    """The grounds of profiles, each kind of them together."""

    def __init__(self, profiles: Profiles) -> None:
        columns = profiles.columns
        self._columns = columns
        self._lists: list[_Lists] = []
        kind, self._row = self._sorted(profiles.lists)
        passed_over = np.array([passes_over_list(mode) for mode in range(0o1000)], np.bool_)
        lists = np.where(passed_over[columns.mode & 0o777], _PLAIN, kind[columns.acl])
        directory = profiles.by_rest(lambda rest: rest.posture.directory)
        executable = columns.mode & EXECUTE_BITS != 0
        self.kind = lists * 4 + directory * 2 + executable
        """For each profile a number, the same for those that have their grounds together."""

    def _sorted(self, lists: list[AccessList | None]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """For each list which of ``_lists`` it is in, counted from 1, and its row there; 0 where it decides nothing."""
        kinds: dict[tuple[Tag, ...], list[AccessList]] = {}
        numbers: dict[tuple[Tag, ...], int] = {}
        kind, row = np.zeros(len(lists), np.int64), np.zeros(len(lists), np.int64)
        for place, acl in enumerate(lists):
            if acl is not None and deciding_entries(_IN_FORCE, acl) is not None:
                tags = tuple([entry.tag for entry in acl.entries])
                alike = kinds.setdefault(tags, [])
                kind[place] = numbers.setdefault(tags, len(numbers) + 1)
                row[place] = len(alike)
                alike.append(acl)
        for tags, alike in kinds.items():
            left = np.array([left_by_mask(acl) for acl in alike], np.int64)
            named = np.array([[entry.id or 0 for entry in acl.entries] for acl in alike], np.int64)
            self._lists.append(_Lists(tags, left, named))
        return kind, row

    def of(self, numbers: NDArray[np.intp]) -> Grounds:
        """The grounds of the profiles with these numbers, which are of one ``kind``."""
        columns = self._columns
        mode, uid, gid = columns.mode[numbers], columns.uid[numbers], columns.gid[numbers]
        lists, rest = divmod(int(self.kind[numbers[0]]), 4)
        directory, executable = bool(rest & 2), bool(rest & 1)
        if lists == _PLAIN:
            return Grounds(directory, executable, uid, gid, NOBODY_NAMED, permissions_by_entry(mode, None))
        alike = self._lists[lists - 1]
        row = self._row[columns.acl[numbers]]
        left, named = alike.left[row], alike.named[row]
        entries = [(tag, left[:, place]) for place, tag in enumerate(alike.tags)]
        whom = tuple([(tag, named[:, place]) for place, tag in enumerate(alike.tags)])
        return Grounds(directory, executable, uid, gid, whom, permissions_by_entry(mode, entries))


class DecisionsOfMany:
    """What profiles decide for one universe: the sets of principals, by their numbers in ``table``."""

    def __init__(self, profiles: Profiles, universe: Universe, table: SetTable) -> None:
        self.profiles = profiles
        self.universe = universe
        self._table = table
        self._grounds = GroundsOfMany(profiles)
        self._known: dict[int, NDArray[np.int32]] = {}

    def allowed(self, want: int, numbers: NDArray[np.intp]) -> NDArray[np.int32]:
        """For each of these profiles the set of principals granted all the permissions in ``want`` (1 to 7) at once."""
        known = self._known.get(want)
        if known is None:
            known = self._known[want] = np.full(len(self.profiles), -1, np.int32)
        missing = np.zeros(len(self.profiles), np.bool_)
        missing[numbers] = True
        missing &= known < 0
        new = np.flatnonzero(missing)
        universe, sets = self.universe, self._table.sets
        for places in together(self._grounds.kind[new], sets.at_once):
            of = self._grounds.of(new[places])
            classes = partition(universe, sets, of.uid, of.gid, of.whom)
            found = granted(sets, of, classes, want, overriding(universe, sets, of, want))
            known[new[places]] = self._table.numbers(np.broadcast_to(found, (len(places), sets.words)))
        return known[numbers]


def together(kind: NDArray[np.int64], most: int) -> Iterator[NDArray[np.intp]]:
    """The places of each kind, at most so many at a time."""
    order = np.argsort(kind, kind="stable")
    bounds = np.flatnonzero(np.diff(kind[order])) + 1
    for places in np.split(order, bounds) if len(order) else ():
        for first in range(0, len(places), most):
            yield places[first : first + most]
