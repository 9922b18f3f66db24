"""The tables of a history in SQLite: made, and recognised."""

import os
import sqlite3
from contextlib import suppress

from fiat.core.errors import HistoryError

VERSION = 4
"""The version of these tables (SQLite's ``user_version``). Those before it were never released: they are told, and not
read."""

_TABLES = {
    "run": {
        "number": "INTEGER PRIMARY KEY AUTOINCREMENT",
        "started": "REAL NOT NULL",
        "ended": "REAL",
        "uid": "INTEGER NOT NULL",
        "user": "TEXT NOT NULL",
        "command": "TEXT NOT NULL",
        "folder": "TEXT NOT NULL",
        "process": "TEXT NOT NULL",
        "paths": "INTEGER NOT NULL",
        "changed": "INTEGER",
        "complete": "INTEGER",
        "undoes": "INTEGER",
        "undoes_in_part": "INTEGER",
        "behind": "TEXT NOT NULL",
        "shifts": "TEXT NOT NULL",
        "entries_seal": "TEXT",
        "fates_seal": "TEXT",
        "seal": "TEXT",
    },
    "block": {
        "run": "INTEGER NOT NULL",
        "first": "INTEGER NOT NULL",
        "fields": "TEXT NOT NULL",
    },
    "fate": {
        "run": "INTEGER NOT NULL",
        "first": "INTEGER NOT NULL",
        "last": "INTEGER NOT NULL",
        "fate": "INTEGER NOT NULL",
        "found": "TEXT",
    },
}
"""A run; its entries, thousands of them in a row (:mod:`fiat.host.history.blocks`); what became of those that were not
simply changed. The seals tell whether any of it is not as it was written: that of a run covers its other columns, and
two of these cover its entries, as planned and as they came out."""

_KEYS = {"block": "run, first", "fate": "run, first"}

_PLAIN = frozenset(b"/-_.abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789")
"""Bytes that stand for themselves in a URI; SQLite takes the name of a file as one."""


_CACHE = 64 * 1024
"""Kilobytes of what is written that are held until it is committed: with less, a long run is flushed many times."""


def connect(path: str, patience: float) -> sqlite3.Connection:
    """The database in the file at ``path``, which is there; what is not text in it comes as surrogate escapes."""
    place = "".join(chr(byte) if byte in _PLAIN else f"%{byte:02x}" for byte in os.fsencode(path))
    database = sqlite3.connect(f"file:{place}?mode=rw", timeout=patience, isolation_level=None, uri=True)
    database.text_factory = lambda value: value.decode("utf-8", "surrogateescape")
    database.execute("PRAGMA trusted_schema = OFF")
    database.execute("PRAGMA cell_size_check = ON")
    database.execute("PRAGMA synchronous = EXTRA")
    database.execute(f"PRAGMA cache_size = -{_CACHE}")
    return database


def close(database: sqlite3.Connection) -> None:
    """Let go of it; what was not committed is rolled back."""
    with suppress(sqlite3.Error):
        database.close()


def empty(database: sqlite3.Connection) -> bool:
    """Whether nothing was ever written to it. Raises :class:`HistoryError` for what is no history of a known version.

    Nothing but Fiat's own tables may be in it: a view or a trigger would have a say in what is read and written.
    """
    found = set(map(tuple, database.execute("SELECT type, name FROM sqlite_master")))
    if not found:
        return True
    version = int(database.execute("PRAGMA user_version").fetchone()[0])
    if version > 0 and version != VERSION and ("table", "run") in found:
        by = "a newer Fiat" if version > VERSION else "a Fiat of before the first release"
        others = "use that one, or another --history" if version > VERSION else "move it away, or use another --history"
        raise HistoryError(f"was written by {by} (version {version} of it, and this one knows {VERSION}); {others}")
    whole = found - {("table", "sqlite_sequence")} == {("table", name) for name in _TABLES}
    if version != VERSION or not whole or any(_lacks(database, name) for name in _TABLES):
        raise HistoryError("is a database of something else, and not a history of Fiat")
    return False


def _lacks(database: sqlite3.Connection, table: str) -> bool:
    """Whether a table lacks columns."""
    there = {str(row[1]) for row in database.execute(f"PRAGMA table_info({table})")}
    return not _TABLES[table].keys() <= there


def prepare(database: sqlite3.Connection) -> None:
    """Make the tables, where nothing was ever written to it."""
    if not empty(database):
        return
    for table, declared in _TABLES.items():
        parts = [f"{name} {kind}" for name, kind in declared.items()]
        key = _KEYS.get(table)
        ending = f", PRIMARY KEY ({key})) WITHOUT ROWID" if key else ")"
        database.execute(f"CREATE TABLE {table} ({', '.join(parts)}{ending}")
    database.execute(f"PRAGMA user_version = {VERSION}")
