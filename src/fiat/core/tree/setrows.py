"""Sets of principals for many postures at once: rows of 64-bit words, one for each posture."""

from collections.abc import Callable, Collection, Iterable, Iterator
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.principals import Principal, Universe
from fiat.core.rules.decision import NOBODY_NAMED, DecisionInputs, granted, overriding, partition
from fiat.core.rules.effective import deciding_entries, left_by_mask, passes_over_list, permissions_by_entry
from fiat.core.rules.unsure import Possible, supposed
from fiat.core.tree.distinct import distinct_columns, distinct_values, distinct_wide_rows, first_places
from fiat.core.tree.profiles import Profiles


class Crowd(NamedTuple):
    """A universe in which one principal stands for all that are alike; ``one_of`` is for each the place of that one.

    Of those who are unsure, others stand there for what they would be in more groups: ``more`` has their places, by
    the place of the one.
    """

    universe: Universe
    one_of: NDArray[np.intp]
    more: dict[int, list[int]]

    def settled(self, bits: int) -> "Possible":
        """Of a set those who are in it whatever groups they are in, and those of whom that is not known."""
        every = some = bits
        for one, others in self.more.items():
            found = [bits >> place & 1 for place in (one, *others)]
            every = every & ~(1 << one) | (all(found) << one)
            some |= any(found) << one
        surely = self.spread(every)
        return Possible(surely, self.spread(some) & ~surely)

    def spread(self, bits: int) -> int:
        """The set of all whom the principals in ``bits`` stand for."""
        size = len(self.universe.principals) // 8 + 1
        chosen = np.unpackbits(np.frombuffer(bits.to_bytes(size, "little"), np.uint8), bitorder="little")
        return int.from_bytes(np.packbits(chosen[self.one_of], bitorder="little").tobytes(), "little")

    def standing_for(self, bits: int) -> int:
        """The set of those who stand for any of the principals in ``bits``."""
        size = len(self.one_of) // 8 + 1
        chosen = np.unpackbits(np.frombuffer(bits.to_bytes(size, "little"), np.uint8), bitorder="little")
        ones = np.zeros(len(self.universe.principals), np.uint8)
        ones[self.one_of[np.flatnonzero(chosen[: len(self.one_of)])]] = 1
        return int.from_bytes(np.packbits(ones, bitorder="little").tobytes(), "little")


def crowd(universe: Universe, uids: Iterable[int], gids: Iterable[int], apart: Collection[int] = ()) -> Crowd:
    """Those who are alike where only these users and groups own anything, or are named; who is in one of the sets
    ``apart`` is like nobody who is not."""
    owning, sharing = set(uids), frozenset(gids)
    numbers: dict[object, int] = {}
    ones: list[Principal] = []
    one_of = np.empty(len(universe.principals), np.intp)
    for place, who in enumerate(universe.principals):
        uid = who.uid if who.uid in owning else None
        among = tuple([bits >> place & 1 for bits in apart])
        like = (uid, who.gids & sharing, who.capabilities, who.exec_capabilities, who.limits, who.unsure, among)
        number = numbers.setdefault(like, len(ones))
        if number == len(ones):
            ones.append(who)
        one_of[place] = number
    more: dict[int, list[int]] = {}
    for number, who in enumerate([*ones]):
        if who.unsure:
            others = dict.fromkeys(who.gids | gids for gids in supposed(sharing - who.gids))
            more[number] = [*range(len(ones), len(ones) + len(others))]
            ones += [who._replace(gids=gids) for gids in others]
    return Crowd(Universe(ones), one_of, more)


Numbers = NDArray[np.int32]

Words = NDArray[np.uint64]
"""Rows of words. Bit ``i`` of a set is bit ``i % 64`` of word ``i // 64``."""

_WORD = np.dtype("<u8")
_MANY = 64
"""Of so many rows the same ones are looked for first."""

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

    def lookup(self, of: Callable[..., int], *numbers: NDArray[np.int64]) -> Words:
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
        self._rows = np.zeros((64, self.sets.words), np.uint64)  # and room for more

    def __len__(self) -> int:
        return len(self._known)

    def __getitem__(self, number: int) -> int:
        """The set as a whole number: of all that its principals stand for, where these are a crowd."""
        bits = self.held(number)
        return bits if self.crowd is None else self.crowd.spread(bits)

    def held(self, number: int) -> int:
        """The set as it is held: of those who stand for others."""
        return int.from_bytes(self._all_rows()[number].tobytes(), "little")

    def number(self, bits: int) -> int:
        """The number of one set."""
        return int(self.numbers(self.sets.constant(bits))[0])

    def numbers_of(self, sets: Iterable[int]) -> Numbers:
        """The number of each of several sets."""
        return self.numbers(self.sets.of(sets))

    def numbers(self, rows: Words) -> Numbers:
        """The number of the set in each row."""
        if len(rows) < _MANY:
            return self._numbers_of_each(rows)
        first, places = distinct_wide_rows(rows)
        return self._numbers_of_each(rows[first])[places]

    def _numbers_of_each(self, rows: Words) -> Numbers:
        known, before = self._known, len(self._known)
        found = np.array([known.setdefault(key, len(known)) for key in self.sets.bytes_of(rows)], np.int32)
        new = first_places(np.maximum(found - before, -1) + 1, len(known) - before + 1)[1:]  # where each stands first
        if len(known) > len(self._rows):
            more = np.zeros((2 * len(known), self.sets.words), np.uint64)
            more[:before] = self._rows[:before]
            self._rows = more
        self._rows[before : len(known)] = rows[new]
        return found

    def both(self, ones: Numbers, others: Numbers) -> Numbers:
        """The numbers of what sets have in common, two and two; -1 where the first is -1."""
        count = len(self) + 1
        distinct, places = distinct_values((ones.astype(np.int64) + 1) * count + others)
        found = np.full(len(distinct), -1, np.int32)
        for first in range(0, len(distinct), self.sets.at_once):
            some = distinct[first : first + self.sets.at_once]
            there = np.flatnonzero(some >= count)
            one, other = some[there] // count - 1, some[there] % count
            rows = self._all_rows()
            found[first + there] = self.numbers(rows[one] & rows[other])
        return found[places]

    def either(self, ones: Numbers, others: Numbers) -> Numbers:
        """The numbers of the unions of sets, two and two."""
        distinct, places = distinct_values(ones.astype(np.int64) * (len(self) + 1) + others)
        found = np.empty(len(distinct), np.int32)
        count = len(self) + 1
        for first in range(0, len(distinct), self.sets.at_once):
            one, other = np.divmod(distinct[first : first + self.sets.at_once], count)
            rows = self._all_rows()
            found[first : first + len(one)] = self.numbers(rows[one] | rows[other])
        return found[places]

    def meeting(self, bits: int) -> NDArray[np.bool_]:
        """For each set, whether any of the principals in ``bits`` is in it."""
        if self.crowd is not None:
            bits = self.crowd.standing_for(bits)
        found: NDArray[np.bool_] = np.any(self._all_rows() & self.sets.constant(bits), axis=1)
        return found

    def rows_of(self, numbers: Numbers) -> Words:
        """The sets with these numbers as rows."""
        return self._all_rows()[numbers]

    def _all_rows(self) -> Words:
        """All sets as rows."""
        return self._rows[: len(self)]


_IN_FORCE = 0o777
"""A mode with which no list is passed over."""

_PLAIN = 0


class _Lists(NamedTuple):
    """Lists whose entries have the same ``tags``: in rows what the mask leaves, and who is named (0 for nobody)."""

    tags: tuple[Tag, ...]
    left: NDArray[np.int64]
    named: NDArray[np.int64]


class DecisionInputsOfMany:
    """What decides of profiles, each kind of them together."""

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
        """For each profile a number, the same for those whose inputs are together."""

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

    def of(self, numbers: NDArray[np.intp]) -> DecisionInputs:
        """The inputs of the decisions for the profiles with these numbers, which are of one ``kind``."""
        columns = self._columns
        mode, uid, gid = columns.mode[numbers], columns.uid[numbers], columns.gid[numbers]
        lists, rest = divmod(int(self.kind[numbers[0]]), 4)
        directory, executable = bool(rest & 2), bool(rest & 1)
        if lists == _PLAIN:
            return DecisionInputs(directory, executable, uid, gid, NOBODY_NAMED, permissions_by_entry(mode, None))
        alike = self._lists[lists - 1]
        row = self._row[columns.acl[numbers]]
        left, named = alike.left[row], alike.named[row]
        entries = [(tag, left[:, place]) for place, tag in enumerate(alike.tags)]
        whom = tuple([(tag, named[:, place]) for place, tag in enumerate(alike.tags)])
        return DecisionInputs(directory, executable, uid, gid, whom, permissions_by_entry(mode, entries))


class DecisionsOfMany:
    """What profiles decide for one universe: the sets of principals, by their numbers in ``table``."""

    def __init__(self, profiles: Profiles, universe: Universe, table: SetTable) -> None:
        self.profiles = profiles
        self.universe = universe
        self._table = table
        self._grounds = DecisionInputsOfMany(profiles)
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
