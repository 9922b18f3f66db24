"""The profiles of a tree in columns: none becomes an object before somebody asks for it.

A profile is a mode, an owner, a group, an access list and the *rest*, which
few profiles do not have in common with others: type, default list, flags,
capabilities, mount, program and what else :class:`Profile` has.
"""

from array import array
from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.accesslist import AccessList
from fiat.core.model.idmap import NO_NUMBERS
from fiat.core.model.posture import Posture
from fiat.core.tree.distinct import distinct_columns, distinct_values, each_once
from fiat.core.tree.profile import Profile

Column = NDArray[np.int64]


class Columns(NamedTuple):
    """For each profile: mode (twelve bits), owner, group, the number of the list and that of the rest."""

    mode: Column
    uid: Column
    gid: Column
    acl: Column
    rest: Column


class Profiles:
    """Profiles by number. ``lists`` are the distinct access lists, the first None; ``rests`` the distinct rests.

    A rest is a profile whose mode and owners are 0, and which has no access list.
    """

    def __init__(self, profiles: Iterable[Profile] = ()) -> None:
        self.lists: list[AccessList | None] = [None]
        self.rests: list[Profile] = []
        self._list_numbers: dict[AccessList | None, int] = {None: 0}
        self._rest_numbers: dict[Hashable, int] = {}
        self._numbers = [array("q") for _ in Columns._fields]
        self._made: dict[int, Profile] = {}
        self._columns: Columns | None = None
        for profile in profiles:
            self.append(profile)

    def __len__(self) -> int:
        return len(self._numbers[0])

    def __getitem__(self, number: int) -> Profile:
        found = self._made.get(number)
        if found is None:
            mode, uid, gid, acl, rest = (column[number] for column in self._numbers)
            kept = self.rests[rest]
            # made from all fields: for thousands that is faster than to replace some
            posture = Posture._make((kept.posture.kind, mode, uid, gid, self.lists[acl], *kept.posture[5:]))
            found = self._made[number] = Profile._make((posture, *kept[1:]))
        return found

    def __iter__(self) -> Iterator[Profile]:
        return map(self.__getitem__, range(len(self)))

    # --- growing ---

    def append(self, profile: Profile) -> int:
        """Take one more; its number."""
        posture = profile.posture
        rest = self.rest_number(profile)
        values = (posture.mode, posture.uid, posture.gid, self.list_number(posture.acl), rest)
        for column, value in zip(self._numbers, values, strict=True):
            column.append(value)
        self._columns = None
        return len(self) - 1

    def extend(self, columns: Columns) -> None:
        """Take more, in columns; lists and rests by the numbers that they have here."""
        for column, more in zip(self._numbers, columns, strict=True):
            column.frombytes(more.astype(np.int64).tobytes())
        self._columns = None

    def list_number(self, acl: AccessList | None) -> int:
        """The number of an access list."""
        number = self._list_numbers.setdefault(acl, len(self.lists))
        if number == len(self.lists):
            self.lists.append(acl)
        return number

    def rest_number(self, profile: Profile) -> int:
        """The number of the rest of a profile."""
        number = self._rest_numbers.setdefault((_rest_of_posture(profile.posture), profile[1:]), len(self.rests))
        if number == len(self.rests):
            self.rests.append(profile._replace(posture=profile.posture._replace(mode=0, uid=0, gid=0, acl=None)))
        return number

    def with_postures(
        self, numbers: NDArray[np.intp], postures: Sequence[Posture], which: NDArray[np.intp]
    ) -> NDArray[np.intp]:
        """The profiles with these ``numbers``, each with another posture, that of ``which`` of the ``postures``.

        Their numbers; what there is not yet is added.
        """
        if not len(numbers):
            return numbers
        parts: dict[Hashable, int] = {}
        examples: list[Posture] = []
        rows = []
        for posture in postures:
            part = parts.setdefault(_rest_of_posture(posture), len(examples))
            if part == len(examples):
                examples.append(posture)
            rows.append((posture.mode, posture.uid, posture.gid, self.list_number(posture.acl), part))
        mode, uid, gid, acl, part_of = np.array(rows, np.int64)[which].T
        pairs, places = distinct_values(self.columns.rest[numbers] * len(examples) + part_of)
        rests = [divmod(pair, len(examples)) for pair in pairs.tolist()]
        rest = [self.rest_number(self.rests[one]._replace(posture=examples[other])) for one, other in rests]
        made = Columns(mode, uid, gid, acl, np.array(rest, np.int64)[places])
        differs = np.zeros(len(numbers), np.bool_)
        for column, known in zip(made, self.columns, strict=True):
            differs |= column != known[numbers]
        new = Columns(*(column[differs] for column in made))
        first, place = distinct_columns(*new)
        found = numbers.astype(np.intp)
        found[differs] = len(self) + place
        self.extend(Columns(*(column[first] for column in new)))
        return found

    def copy(self) -> "Profiles":
        """A copy of the profiles, to which more can be appended."""
        return self.taken(np.arange(len(self)))

    def taken(self, numbers: NDArray[np.intp]) -> "Profiles":
        """The profiles with these numbers, in this order."""
        other = Profiles()
        other.lists, other.rests = self.lists.copy(), self.rests.copy()
        other._list_numbers, other._rest_numbers = self._list_numbers.copy(), self._rest_numbers.copy()
        other.extend(Columns(*(column[numbers] for column in self.columns)))
        return other

    def in_order_of_use(self) -> "Profiles":
        """The same profiles, their lists and rests in the order in which profiles have them; what none has is left out.

        So it does not matter in what order a tree was read.
        """
        other, columns = Profiles(), self.columns
        rests = {number: other.rest_number(self.rests[number]) for number in _by_use(columns.rest)}
        lists = {number: other.list_number(self.lists[number]) for number in _by_use(columns.acl)}
        other.extend(columns._replace(acl=_in_place(columns.acl, lists), rest=_in_place(columns.rest, rests)))
        return other

    # --- all of them at once ---

    @property
    def columns(self) -> Columns:
        """All of them in columns."""
        if self._columns is None:
            self._columns = Columns(*(np.array(column, np.int64) for column in self._numbers))
        return self._columns

    def by_rest(self, of: Callable[[Profile], Any], kind: Any = np.bool_) -> NDArray[Any]:
        """For each profile what ``of`` says of its rest, which it is asked once of each."""
        return np.array([of(rest) for rest in self.rests], kind)[self.columns.rest]

    def owners(self) -> tuple[set[int], set[int]]:
        """The numbers of the users and of the groups that own something, or are named in a list."""
        columns = self.columns
        uids, gids = set(each_once(columns.uid)), set(each_once(columns.gid))
        for number in each_once(columns.acl):
            acl = self.lists[number]
            if acl is not None:
                named_uids, named_gids = acl.named()
                uids |= named_uids
                gids |= named_gids
        return uids.difference(NO_NUMBERS), gids.difference(NO_NUMBERS)


def _by_use(numbers: Column) -> list[int]:
    """The distinct numbers, in the order of where each stands first."""
    return list(dict.fromkeys(numbers.tolist()))


def _in_place(numbers: Column, others: dict[int, int]) -> Column:
    """Other numbers in the place of each."""
    table = np.zeros(max(others, default=0) + 1, np.int64)
    table[list(others)] = list(others.values())
    return table[numbers]


def _rest_of_posture(posture: Posture) -> Hashable:
    """All of a posture but mode, owners and access list."""
    return posture.kind, posture.default, posture.flags, posture.capabilities
