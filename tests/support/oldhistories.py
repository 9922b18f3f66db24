"""Histories as older versions wrote them, made of those that this one writes."""

import json
import os
import sqlite3
from collections.abc import Sequence
from contextlib import closing

from fiat.core.change.history import Entry
from fiat.core.model.posture import Posture
from fiat.core.model.record import POSTURE
from fiat.host.history import runrows
from fiat.host.history.seals import Row, seal_of
from fiat.host.history.sqlite import SqliteHistory

_COLUMNS = "run, place, path, filesystem, inode, birth, before, after, on_the_way, fate, found"


def become(place: str, version: int) -> None:
    """Make the history at ``place`` one of version 1 or 2; of no entry anything else came than was planned."""
    history = SqliteHistory(place)
    runs = {run.number: history.entries(run.number) for run in history.runs()}
    with closing(sqlite3.connect(place, isolation_level=None)) as database:
        database.execute("DROP TABLE block")
        database.execute("DROP TABLE fate")
        database.execute(f"CREATE TABLE entry ({_COLUMNS}, device, PRIMARY KEY (run, place)) WITHOUT ROWID")
        database.execute("CREATE TABLE posture (run, number, fields, PRIMARY KEY (run, number)) WITHOUT ROWID")
        for number, entries in runs.items():
            rows, postures = _rows(entries)
            entry_rows = [(number, *row, 0, None, 0) for row in rows]
            database.executemany(f"INSERT INTO entry VALUES ({', '.join('?' * 12)})", entry_rows)
            database.executemany("INSERT INTO posture VALUES (?, ?, ?)", [(number, *row) for row in postures])
            database.execute("UPDATE run SET entries_seal = ? WHERE number = ?", (seal_of(*rows, *postures), number))
            sealed = f"SELECT {', '.join(runrows.RUN_COLUMNS)} FROM run WHERE number = ?"
            row = database.execute(sealed, (number,)).fetchone()
            database.execute("UPDATE run SET seal = ? WHERE number = ?", (seal_of(row), number))
        for table, columns in _LACKING[version].items():
            for column in columns:
                database.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        if version == 1:
            database.execute("UPDATE posture SET fields = json_remove(fields, '$.flags')")
        database.execute(f"PRAGMA user_version = {version}")


_LACKING: dict[int, dict[str, tuple[str, ...]]] = {
    1: {"entry": ("filesystem", "found"), "run": ("entries_seal", "fates_seal", "seal")},
    2: {"entry": ("device",)},
}


def _rows(entries: Sequence[Entry]) -> tuple[list[Row], list[Row]]:
    """The rows of entries as planned, and of their postures."""
    known: dict[Posture, int] = {}
    rows: list[Row] = []
    for place, one in enumerate(entries):
        every = (one.before, one.after, *one.between)
        before, after, *between = (known.setdefault(each, len(known)) for each in every)
        on_the_way = json.dumps(between) if between else None
        rows.append((place, os.fsencode(one.path), *one.identity, before, after, on_the_way))
    return rows, [(number, json.dumps(POSTURE.write(posture))) for posture, number in known.items()]
