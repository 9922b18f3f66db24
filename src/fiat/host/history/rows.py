"""What a history holds, as rows of its tables, with the seals that tell whether they are as they were written."""

import json
import os
import sqlite3
from binascii import crc32
from collections.abc import Iterable, Iterator, Sequence
from operator import itemgetter
from typing import Any, NamedTuple

from fiat.core.ask.keptshifts import KeptShift
from fiat.core.change.history import Entry, Fate, Run, Settled, State
from fiat.core.errors import RecordError
from fiat.core.model import record
from fiat.core.model.fields import Fields
from fiat.core.model.identity import Identity
from fiat.core.model.posture import Posture
from fiat.core.model.schema import Field, Form, Listed, Number, OrNone, Record, Text, wrong
from fiat.host.history.process import still_runs

Row = tuple[Any, ...]

RUN_COLUMNS = (
    "number", "started", "ended", "uid", "user", "command", "folder", "process", "paths", "changed", "complete",
    "undoes", "shifts", "entries_seal", "fates_seal",
)  # fmt: skip
"""Those that the seal of a run covers."""

ENTRY_COLUMNS = (
    "place", "path", "filesystem", "inode", "birth", "before", "after", "on_the_way", "fate", "found",
)  # fmt: skip


class Seal:
    """A sum of rows, in the order in which they come: against damage. Who can write to the file could change it too."""

    def __init__(self) -> None:
        self._sum = 0

    def add(self, row: Row) -> None:
        """The next row. How Python writes numbers, texts and bytes tells any two rows apart."""
        self._sum = crc32(repr(row).encode("utf-8", "backslashreplace"), self._sum)

    def text(self) -> str:
        """The sum so far."""
        return f"{self._sum:08x}"


def seal_of(*rows: Row) -> str:
    """The seal of these rows."""
    seal = Seal()
    for row in rows:
        seal.add(row)
    return seal.text()


# --- runs ----------------------------------------------------------------------------------


class _Seconds:
    """Seconds since the epoch."""

    def write(self, value: float) -> Any:
        return value

    def read(self, data: Any, place: str) -> float:
        if isinstance(data, bool) or not isinstance(data, int | float) or not 0 <= data < 1e11:
            raise wrong(place, data, "a time in seconds")
        return float(data)


class _Json(NamedTuple):
    """Text that is the JSON of what ``form`` is for."""

    form: Form[Any]

    def write(self, value: Any) -> Any:
        return json.dumps(self.form.write(value))

    def read(self, data: Any, place: str) -> Any:
        try:
            return self.form.read(json.loads(Text().read(data, place)), place)
        except (ValueError, RecursionError) as error:
            raise RecordError(place, "is no JSON") from error


class _Shift:
    """A gain or a loss: who, right, paths, and since version 2 those that no other right goes with."""

    def write(self, value: KeptShift) -> Any:
        return list(value)

    def read(self, data: Any, place: str) -> KeptShift:
        if not isinstance(data, list) or not 3 <= len(data) <= 4:
            raise wrong(place, data, "a list of who, right and paths")
        who, right = (Text().read(one, place) for one in data[:2])
        paths = Number().read(data[2], place)
        return KeptShift(who, right, paths, Number().read(data[3], place) if len(data) > 3 else paths)


_SHIFTS: Record[Fields] = Record(
    dict,
    Field("gains", lambda both: both["gains"], Listed(_Shift())),
    Field("losses", lambda both: both["losses"], Listed(_Shift())),
)
_COUNT = Number(0, (1 << 63) - 1)


def _column(name: str, form: Form[Any]) -> Field:
    return Field(name, itemgetter(name), form)


_RUN: Record[Fields] = Record(
    dict,
    _column("number", Number(1, (1 << 63) - 1)),
    _column("started", _Seconds()),
    _column("ended", OrNone(_Seconds())),
    _column("uid", record.ID),
    _column("user", _Json(OrNone(Text()))),
    _column("command", _Json(Listed(Text()))),
    _column("folder", _Json(Text())),
    _column("process", Text()),
    _column("paths", _COUNT),
    _column("changed", OrNone(_COUNT)),
    _column("complete", OrNone(Number(0, 1))),
    _column("undoes", OrNone(_COUNT)),
    _column("shifts", _Json(_SHIFTS)),
)


def run_of(row: sqlite3.Row) -> Run:
    """A run from its row; RecordError where it is not as it was written. What undid it is not in the row."""
    if row["seal"] is not None and row["seal"] != seal_of(tuple(row[name] for name in RUN_COLUMNS)):
        raise RecordError("it", "is not as it was written")
    found = _RUN.read({name: row[name] for name in RUN_COLUMNS})
    if found["ended"] is None:
        state = State.RUNNING if still_runs(found["process"]) else State.PARTIAL
    else:
        state = State.DONE if found["complete"] else State.PARTIAL
    return Run(
        number=found["number"],
        started=found["started"],
        ended=found["ended"],
        uid=found["uid"],
        user=found["user"],
        command=tuple(found["command"]),
        folder=found["folder"],
        state=state,
        paths=found["paths"],
        changed=found["changed"] or 0,
        undoes=found["undoes"],
        gains=tuple(found["shifts"]["gains"]),
        losses=tuple(found["shifts"]["losses"]),
    )


def with_undone(runs: Sequence[Run]) -> list[Run]:
    """The runs, the latest first, with what has put each back.

    An undo that went through makes the run that it undid undone, unless it was itself undone since.
    """
    undone_by: dict[int, int] = {}
    for run in runs:
        if run.undoes is not None and run.state is State.DONE and run.number not in undone_by:
            undone_by.setdefault(run.undoes, run.number)
    return [
        run._replace(state=State.UNDONE, undone_by=undone_by[run.number]) if run.number in undone_by else run
        for run in runs
    ]


# --- entries -------------------------------------------------------------------------------


class EntryRows:
    """The rows of a run's entries, and of the postures they have; sealed as they are made."""

    def __init__(self, run: int) -> None:
        self.run = run
        self.seal = Seal()
        self.count = 0
        self._known: dict[Posture, int] = {}

    def entries(self, entries: Iterable[Entry]) -> Iterator[Row]:
        """The run, and what :data:`ENTRY_COLUMNS` name."""
        last: tuple[Posture, Posture, tuple[Posture, ...]] | None = None  # neighbours are often alike
        pair, on_the_way = (0, 0), None
        for place, path, (filesystem, inode, birth), before, after, between, fate, found in entries:
            if last is None or last[0] is not before or last[1] is not after or last[2] is not between:
                last = before, after, between
                pair = self._number(before), self._number(after)
                on_the_way = json.dumps([self._number(one) for one in between]) if between else None
            signed = inode - (1 << 64) if inode >= 1 << 63 else inode
            planned = (place, os.fsencode(path), filesystem, signed, birth, *pair, on_the_way)
            self.seal.add(planned)
            self.count += 1
            yield self.run, *planned, fate.value, found_text(found)

    def postures(self) -> Iterator[Row]:
        """Run, number and fields of each posture; to be taken after the entries."""
        for posture, number in self._known.items():
            row = number, json.dumps(record.POSTURE.write(posture))
            self.seal.add(row)
            yield self.run, *row

    def _number(self, posture: Posture) -> int:
        return self._known.setdefault(posture, len(self._known))


def found_text(found: Posture | None) -> str | None:
    """The posture that an object was read back with, as its column has it."""
    return None if found is None else json.dumps(record.POSTURE.write(found))


def fates_seal(settled: Iterable[Settled]) -> str:
    """The seal of what became of the entries that were not simply changed."""
    seal = Seal()
    for one in sorted(settled, key=lambda one: one.first):
        found = found_text(one.found)
        for place in range(one.first, one.last + 1):
            seal.add((place, one.fate.value, found))
    return seal.text()


_NUMBERS = _Json(Listed(Number()))
_BIRTH = Number(-(1 << 63), (1 << 63) - 1)
_FATES = {fate.value: fate for fate in Fate}


def entries_of(
    rows: Iterable[Row],
    postures: Iterable[Row],
    seals: tuple[str | None, str | None],
    *,
    flags_unknown: bool,
) -> list[Entry]:
    """The entries of a run from their rows (:data:`ENTRY_COLUMNS`) and those of the postures.

    ``seals`` are those of the entries as planned and of what came of them, None where there is none.

    Raises RecordError for what is not as it was written.
    """
    known: dict[int, Posture] = {}
    posture_rows = list(postures)
    for one, fields in posture_rows:
        known[one] = posture_of(fields, f"posture {one}", flags_unknown=flags_unknown)
    planned, fates, found = Seal(), Seal(), []
    for row in rows:
        entry = _entry(row, known)
        planned.add(row[:8])
        if entry.fate is not Fate.PLANNED:
            fates.add((row[0], *row[8:]))
        found.append(entry)
    for posture_row in posture_rows:
        planned.add(posture_row)
    for seal, kept in ((planned, seals[0]), (fates, seals[1])):
        if kept is not None and kept != seal.text():
            raise RecordError("it", "has entries that are not as they were written")
    return found


def _entry(row: Row, known: dict[int, Posture]) -> Entry:
    place, path, filesystem, inode, birth, before, after, between, fate, found = row
    where = f"entry {place}"
    if not isinstance(path, bytes) or not path.startswith(b"/") or b"\0" in path:
        raise RecordError(where, "has no path that begins with /")
    if fate not in _FATES or isinstance(fate, bool | float):
        raise RecordError(where, "has a fate that is none")
    numbers = [before, after, *(_NUMBERS.read(between, where) if between is not None else ())]
    try:
        first, last, *others = [known[one] for one in numbers]
    except (KeyError, TypeError) as error:
        raise RecordError(where, "has a posture that is missing") from error
    return Entry(
        Number().read(place, where),
        os.fsdecode(path),
        Identity(
            Text().read(filesystem, where), _BIRTH.read(inode, where) & 0xFFFFFFFFFFFFFFFF, _BIRTH.read(birth, where)
        ),
        first,
        last,
        tuple(others),
        _FATES[fate],
        None if found is None else posture_of(found, where),
    )


def posture_of(fields: Any, place: str, *, flags_unknown: bool = False) -> Posture:
    """A posture from the JSON that its column holds."""
    found: Posture = _Json(record.POSTURE).read(fields, place)
    return found._replace(flags=None) if flags_unknown else found
