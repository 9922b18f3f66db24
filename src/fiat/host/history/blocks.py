"""The entries of a run as rows of their table.

Thousands of entries are one row, which holds them column by column as JSON: a
run can have very many, most of them alike. What became of those that were not
simply changed has rows of its own.
"""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import chain, islice, repeat
from operator import attrgetter
from typing import Any, NamedTuple

from fiat.core.change.history import Intended, ObjectFate, RunEntry, SettledObjects
from fiat.core.change.steps import Change
from fiat.core.errors import RecordError
from fiat.core.model.columns import made_of
from fiat.core.model.posture import Identity, Posture
from fiat.core.model.record import OWNER_ID, POSTURE
from fiat.core.model.schema import Field, Form, Listed, Number, Record, Text, wrong
from fiat.host.history.seals import Row, Seal, seal_of, sum_of


class Json(NamedTuple):
    """Text that is the JSON of what ``form`` is for."""

    form: Form[Any]

    def write(self, value: Any) -> Any:
        """The JSON of the value, as text."""
        return json.dumps(self.form.write(value))

    def read(self, data: Any, place: str) -> Any:
        """What the text holds; RecordError that names ``place`` where that is something else."""
        try:
            return self.form.read(json.loads(Text().read(data, place)), place)
        except (ValueError, RecursionError) as error:
            raise RecordError(place, "is no JSON") from error


class Numbers(NamedTuple):
    """A list of whole numbers from ``least`` to ``most``, checked all at once."""

    least: int = 0
    most: int = (1 << 64) - 1

    def write(self, value: Any) -> Any:
        """The column, which is a list of numbers already."""
        return value

    def read(self, data: Any, place: str) -> list[int]:
        """The numbers of the column; RecordError that names ``place`` for anything else."""
        if not isinstance(data, list):
            raise wrong(place, data, "a list")
        whole = set(map(type, data)) <= {int} and (not data or (self.least <= min(data) and max(data) <= self.most))
        return data if whole else list(Listed(Number(self.least, self.most)).read(data, place))


class NumberLists(NamedTuple):
    """A list of lists of whole numbers, checked all at once."""

    numbers: Numbers = Numbers()

    def write(self, value: Any) -> Any:
        """The column, which is a list of such lists already."""
        return value

    def read(self, data: Any, place: str) -> list[list[int]]:
        """The lists of the column; RecordError that names ``place`` for anything else."""
        if not isinstance(data, list) or not set(map(type, data)) <= {list}:
            raise wrong(place, data, "a list of lists")
        self.numbers.read(list(chain.from_iterable(data)), place)
        return data


class Texts(NamedTuple):
    """A list of texts, checked all at once."""

    def write(self, value: Any) -> Any:
        """The column, which is a list of texts already."""
        return value

    def read(self, data: Any, place: str) -> list[str]:
        """The texts of the column; RecordError that names ``place`` for anything else."""
        if not isinstance(data, list):
            raise wrong(place, data, "a list")
        return data if set(map(type, data)) <= {str} else list(Listed(Text()).read(data, place))


BLOCK_COLUMNS = ("first", "fields")
"""The place of the first entry of a block, and the block."""

FATE_COLUMNS = ("first", "last", "fate", "found")
"""Those of :class:`SettledObjects`."""

_TOGETHER = 5000
"""Entries in one block at most."""


class Block(NamedTuple):
    """Entries, column by column.

    ``changes`` are the numbers of the postures before and after, and of those between,
    of each distinct change; ``change`` counts these for each entry. ``postures``
    are those that no block before had, numbered on: mode, owner, group, and which of the
    ``rests``, which are numbered on as well, holds everything else. ``digests`` are those of the contents of
    privileged files, by their places in the block.
    """

    path: Sequence[str]
    filesystem: Sequence[str]
    inode: Sequence[int]
    birth: Sequence[int]
    change: Sequence[int]
    changes: Sequence[Sequence[int]]
    postures: Sequence[Sequence[int]]
    rests: Sequence[Posture]
    digests: Mapping[int, str] = {}


_REST: Record[Posture] = Record(
    lambda found: Posture(mode=0, uid=0, gid=0, **found),
    *(field for field in POSTURE.fields if field.name in ("kind", "acl", "default", "flags", "capabilities")),
)


class _Digests:
    """Digests by place, as a list of pairs."""

    def write(self, value: Mapping[int, str]) -> Any:
        return list(map(list, value.items()))

    def read(self, data: Any, place: str) -> Mapping[int, str]:
        pairs = data if isinstance(data, list) else [data]
        if not all(type(one) is list and list(map(type, one)) == [int, str] for one in pairs):
            raise wrong(place, data, "a list of places and digests")
        return dict(pairs)


_SIGNED = Numbers(-(1 << 63), (1 << 63) - 1)
_BLOCK: Record[Block] = Record(
    lambda found: Block(**found),
    Field("path", attrgetter("path"), Texts()),
    Field("filesystem", attrgetter("filesystem"), Texts()),
    Field("inode", attrgetter("inode"), Numbers()),
    Field("birth", attrgetter("birth"), _SIGNED),
    Field("change", attrgetter("change"), Numbers()),
    Field("changes", attrgetter("changes"), NumberLists()),
    Field("postures", attrgetter("postures"), NumberLists()),
    Field("rests", attrgetter("rests"), Listed(_REST)),
    Field("digests", attrgetter("digests"), _Digests(), required=False, default={}),
)


class Blocks:
    """The blocks of a run's entries, sealed as they are made."""

    def __init__(self, run: int) -> None:
        self.run = run
        self.count = 0
        self.seal = Seal()
        self._postures: dict[Posture, int] = {}
        self._rests: dict[Posture, int] = {}
        self._changes: dict[int, tuple[int, ...]] = {}

    def rows(self, intended: Intended) -> Iterator[Row]:
        """The run, and what :data:`BLOCK_COLUMNS` name."""
        for first in range(0, len(intended.paths), _TOGETHER):
            fields = json.dumps(_BLOCK.write(self._block(intended, first, first + _TOGETHER)))
            self.seal.add((first, sum_of(fields)))
            yield self.run, first, fields
        self.count = len(intended.paths)

    def _block(self, intended: Intended, first: int, end: int) -> Block:
        postures, rests = len(self._postures), len(self._rests)
        numbers = intended.numbers[first:end]
        filesystems, inodes, births = zip(*intended.identities[first:end], strict=True)
        distinct: dict[tuple[int, ...], int] = {}
        place_of = {
            number: distinct.setdefault(self._postures_of(number, intended.changes), len(distinct))
            for number in dict.fromkeys(numbers)
        }
        digests = intended.digests
        return Block(
            intended.paths[first:end],
            filesystems,
            inodes,
            births,
            list(map(place_of.__getitem__, numbers)),
            list(distinct),
            [self._in_numbers(one) for one in islice(self._postures, postures, None)],
            list(islice(self._rests, rests, None)),
            {place - first: digests[place] for place in range(first, end) if digests.get(place)} if digests else {},
        )

    def _postures_of(self, number: int, changes: Sequence[Change]) -> tuple[int, ...]:
        """The numbers of the postures of the change of this number."""
        if number not in self._changes:
            change = changes[number]
            self._changes[number] = tuple(map(self._number, (change.before, change.after, *change.between)))
        return self._changes[number]

    def _number(self, posture: Posture) -> int:
        return self._postures.setdefault(posture, len(self._postures))

    def _in_numbers(self, posture: Posture) -> tuple[int, ...]:
        rest = self._rests.setdefault(posture._replace(mode=0, uid=0, gid=0), len(self._rests))
        return posture.mode, posture.uid, posture.gid, rest


def fate_rows(settled: Iterable[SettledObjects]) -> list[Row]:
    """What :data:`FATE_COLUMNS` name of each."""
    return [
        (one.first, one.last, one.fate.value, None if one.found is None else json.dumps(POSTURE.write(one.found)))
        for one in sorted(settled, key=lambda one: one.first)
    ]


def entries_of(blocks: Iterable[Row], fates: Iterable[Row], seals: tuple[str | None, str | None]) -> list[RunEntry]:
    """The entries of a run from its rows; ``seals`` are those of both, None where there is none.

    Raises RecordError for what is not as it was written.
    """
    rows, fates = list(blocks), list(fates)
    found: list[RunEntry] = []
    postures: list[Posture] = []
    rests: list[Posture] = []
    for first, fields in rows:
        where = f"its block of entries from {first}"
        block = Json(_BLOCK).read(fields, where)
        if first != len(found) or isinstance(first, float) or len({*map(len, block[:5])}) != 1:
            raise RecordError(where, "is not whole, or entries before it are missing")
        rests += block.rests
        postures += (_posture(one, rests, where) for one in block.postures)
        found += _entries(block, postures, where)
    for fate in fates:
        _settle(found, fate)
    sealed = ((first, sum_of(fields)) for first, fields in rows), fates
    for some, kept in zip(sealed, seals, strict=True):
        if kept is not None and kept != seal_of(*some):
            raise RecordError("it", "has entries that are not as they were written")
    return found


def _posture(numbers: Sequence[int], rests: Sequence[Posture], where: str) -> Posture:
    try:
        mode, uid, gid, rest = numbers
        found = rests[rest]
    except (ValueError, IndexError) as error:
        raise RecordError(where, "has a posture that is missing") from error
    if not mode <= 0o7777:
        raise wrong(where, mode, "the mode of a posture")
    return found._replace(mode=mode, uid=OWNER_ID.read(uid, where), gid=OWNER_ID.read(gid, where))


def _entries(block: Block, postures: Sequence[Posture], where: str) -> Iterator[RunEntry]:
    """The entries of a block."""
    if "\0" in "".join(block.path) or not {path[:1] for path in block.path} <= {"/"}:
        raise RecordError(where, "has no path that begins with /")
    try:
        changes = [[postures[number] for number in change] for change in block.changes]
        known = [(before, after, tuple(between)) for before, after, *between in changes]
        theirs = [known[number] for number in block.change]
    except (ValueError, IndexError) as error:
        raise RecordError(where, "has a posture that is missing") from error
    befores, afters, betweens = zip(*theirs, strict=True)
    digests = repeat("") if not block.digests else [block.digests.get(place, "") for place in range(len(block.path))]
    begun = block.path, made_of(Identity, *block[1:4]), befores, afters, betweens
    return made_of(RunEntry, *begun, repeat(ObjectFate.PLANNED), repeat(None), digests)


_PLACE = Number()
_FATES = {fate.value: fate for fate in ObjectFate}


def _settle(entries: list[RunEntry], row: Row) -> None:
    """Give entries what became of them."""
    where = "what became of an entry"
    first, last = (_PLACE.read(place, where) for place in row[:2])
    fate, found = row[2:]
    if fate not in _FATES or isinstance(fate, float) or not last < len(entries):
        raise RecordError(where, "has a fate that is none")
    posture = None if found is None else Json(POSTURE).read(found, where)
    for place in range(first, last + 1):
        entries[place] = entries[place]._replace(fate=_FATES[fate], found=posture)
