"""Runs as rows of their table."""

import sqlite3
from collections.abc import Sequence
from operator import itemgetter
from typing import Any

from fiat.core.ask.effects import KeptShift
from fiat.core.change.history import Actor, Run, RunState
from fiat.core.errors import RecordError
from fiat.core.model import record
from fiat.core.model.schema import Field, Form, Listed, Number, OrNone, Record, Text, wrong
from fiat.core.text import Fields
from fiat.host.history.blocks import Json
from fiat.host.history.locks import still_runs
from fiat.host.history.seals import seal_of

RUN_COLUMNS = (
    "number", "started", "ended", "uid", "user", "command", "folder", "process", "paths", "changed", "complete",
    "undoes", "undoes_in_part", "behind", "shifts", "entries_seal", "fates_seal",
)  # fmt: skip
"""Those that the seal of a run covers."""


class _Seconds:
    """Seconds since the epoch."""

    def write(self, value: float) -> Any:
        return value

    def read(self, data: Any, place: str) -> float:
        if isinstance(data, bool) or not isinstance(data, int | float) or not 0 <= data < 1e11:
            raise wrong(place, data, "a time in seconds")
        return float(data)


class _Shifts:
    """Gains or losses: of each who, right, paths, and on how many the right goes with no other."""

    def write(self, value: Sequence[KeptShift]) -> Any:
        return list(map(list, value))

    def read(self, data: Any, place: str) -> tuple[KeptShift, ...]:
        if not isinstance(data, list):
            raise wrong(place, data, "a list")
        if set(map(type, data)) == {list} and set(map(len, data)) == {len(_SHIFT)}:  # there can be thousands
            columns = tuple(zip(*data, strict=True))
            kinds = tuple(kind for column in columns for kind in set(map(type, column)))
            if kinds == _SHIFT and min(map(min, columns[2:])) >= 0:
                return tuple(map(KeptShift._make, data))
        return tuple(self._one(one, f"{place}[{number}]") for number, one in enumerate(data))

    def _one(self, data: Any, place: str) -> KeptShift:
        if not isinstance(data, list) or len(data) != len(_SHIFT):
            raise wrong(place, data, "a list of who, right, paths and those apart")
        who, right = (Text().read(one, place) for one in data[:2])
        return KeptShift(who, right, *(Number().read(one, place) for one in data[2:]))


_SHIFT = (str, str, int, int)

_SHIFTS: Record[Fields] = Record(
    dict,
    Field("gains", lambda both: both["gains"], _Shifts()),
    Field("losses", lambda both: both["losses"], _Shifts()),
)
_COUNT = Number(0, (1 << 63) - 1)

BEHIND: Record[Actor] = Record(
    lambda both: Actor(**both),
    Field("uid", lambda actor: actor.uid, OrNone(record.ID)),
    Field("name", lambda actor: actor.name, OrNone(Text())),
    Field("said_by", lambda actor: actor.said_by, Text()),
)
"""Who is behind a run."""


class _Numbers:
    """Numbers of runs: one as it is, several as text with spaces between."""

    def write(self, value: tuple[int, ...]) -> Any:
        return column_of(value)

    def read(self, data: Any, place: str) -> tuple[int, ...]:
        if data is None:
            return ()
        words = data.split(" ") if isinstance(data, str) else [data]
        if isinstance(data, str) and not all(word.isascii() and word.isdecimal() for word in words):
            raise wrong(place, data, "numbers of runs")
        return tuple(_COUNT.read(int(word), place) for word in words)


def column_of(numbers: tuple[int, ...]) -> int | str | None:
    """What stands in the column for the runs that were put back."""
    if len(numbers) < 2:
        return numbers[0] if numbers else None
    return " ".join(map(str, numbers))


def _column(name: str, form: Form[Any]) -> Field:
    return Field(name, itemgetter(name), form)


_RUN: Record[Fields] = Record(
    dict,
    _column("number", Number(1, (1 << 63) - 1)),
    _column("started", _Seconds()),
    _column("ended", OrNone(_Seconds())),
    _column("uid", record.ID),
    _column("user", Json(OrNone(Text()))),
    _column("command", Json(Listed(Text()))),
    _column("folder", Json(Text())),
    _column("process", Text()),
    _column("paths", _COUNT),
    _column("changed", OrNone(_COUNT)),
    _column("complete", OrNone(Number(0, 1))),
    _column("undoes", _Numbers()),
    _column("undoes_in_part", _Numbers()),
    _column("behind", Json(OrNone(BEHIND))),
    _column("shifts", Json(_SHIFTS)),
)


def run_of(row: sqlite3.Row, ended: dict[tuple[int, str], Run]) -> Run:
    """A run from its row; RecordError where it is not as it was written. What undid it is not in the row.

    ``ended`` are by number and seal those that have been read before, to which it is added once it has ended.
    """
    seal = row["seal"]
    if seal is not None and seal != seal_of(tuple(row[name] for name in RUN_COLUMNS)):
        raise RecordError("it", "is not as it was written")
    if (row["number"], seal) in ended:
        return ended[row["number"], seal]
    found = _RUN.read({name: row[name] for name in RUN_COLUMNS})
    if found["ended"] is None:
        state = RunState.RUNNING if still_runs(found["process"]) else RunState.PARTIAL
    else:
        state = RunState.DONE if found["complete"] else RunState.PARTIAL
    run = Run(
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
        undoes=found["undoes"][0] if found["undoes"] else None,
        undoes_also=found["undoes"][1:],
        undoes_in_part=found["undoes_in_part"],
        behind=found["behind"],
        gains=tuple(found["shifts"]["gains"]),
        losses=tuple(found["shifts"]["losses"]),
    )
    if seal is not None and run.ended is not None:
        ended[run.number, seal] = run
    return run


def with_undone(runs: Sequence[Run]) -> list[Run]:
    """The runs, the latest first, with what has put each back.

    An undo that went through makes the run that it undid undone, unless it was itself undone since.
    """
    undone_by: dict[int, int] = {}
    for run in runs:
        if run.state is RunState.DONE and run.number not in undone_by:
            for number in run.all_undone:
                undone_by.setdefault(number, run.number)
    return [
        run._replace(state=RunState.UNDONE, undone_by=undone_by[run.number]) if run.number in undone_by else run
        for run in runs
    ]
