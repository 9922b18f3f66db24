"""The tables of a history in SQLite: made, recognised, and brought up to date."""

import os
import sqlite3
from collections.abc import Mapping
from contextlib import suppress

from fiat.core.errors import HistoryError

VERSION = 3
"""Version 1 knew neither flags nor file systems nor seals, version 2 a row for each entry. Both are read, and added to
in this form."""

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

_BEFORE = {
    "posture": {
        "run": "INTEGER NOT NULL",
        "number": "INTEGER NOT NULL",
        "fields": "TEXT NOT NULL",
    },
    "entry": {
        "run": "INTEGER NOT NULL",
        "place": "INTEGER NOT NULL",
        "path": "BLOB NOT NULL",
        "filesystem": "TEXT NOT NULL DEFAULT ''",
        "inode": "INTEGER NOT NULL",
        "birth": "INTEGER NOT NULL",
        "before": "INTEGER NOT NULL",
        "after": "INTEGER NOT NULL",
        "on_the_way": "TEXT",
        "fate": "INTEGER NOT NULL",
        "found": "TEXT",
    },
}
"""In place of the last two, before version 3: each posture that the entries of a run have, once; its entries."""

_ADDED = {"run": {"entries_seal", "fates_seal", "seal"}, "entry": {"filesystem", "found"}}
"""The columns that not every version has had."""


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
    version = version_of(database)
    if version > VERSION and ("table", "run") in found:
        raise HistoryError(
            f"was written by a newer Fiat (version {version} of it, and this one knows {VERSION}); "
            "use that one, or another --history"
        )
    declared = {**_TABLES, **_BEFORE}
    needed = {"run", *(_BEFORE if version < VERSION else _TABLES)}
    tables = {name for kind, name in found if kind == "table"} - {"sqlite_sequence"}
    if (
        version < 1
        or {kind for kind, _ in found} != {"table"}
        or not needed <= tables <= declared.keys()
        or any(_lacking(database, name, declared[name]) - _ADDED.get(name, set()) for name in tables)
    ):
        raise HistoryError("is a database of something else, and not a history of Fiat")
    return False


def version_of(database: sqlite3.Connection) -> int:
    """The version that it says it has."""
    return int(database.execute("PRAGMA user_version").fetchone()[0])


def columns(database: sqlite3.Connection, table: str) -> set[str]:
    """The names of the columns of a table."""
    return {str(row[1]) for row in database.execute(f"PRAGMA table_info({table})")}


def has_table(database: sqlite3.Connection, table: str) -> bool:
    """Whether it has a table of this name."""
    return bool(columns(database, table))


def _lacking(database: sqlite3.Connection, table: str, declared: Mapping[str, str]) -> set[str]:
    """The columns of a table that are not there."""
    return declared.keys() - columns(database, table)


def prepare(database: sqlite3.Connection) -> None:
    """Make the tables that are missing, and bring those of an older version up to this."""
    version = VERSION if empty(database) else version_of(database)
    if version == 1:
        database.execute("UPDATE posture SET fields = json_set(fields, '$.flags', NULL)")
        for table in ("run", "entry"):
            declared = {**_TABLES, **_BEFORE}[table]
            for name in _lacking(database, table, declared):
                database.execute(f"ALTER TABLE {table} ADD COLUMN {name} {declared[name]}")
        if "device" in columns(database, "entry"):
            database.execute("ALTER TABLE entry DROP COLUMN device")
    for table, declared in _TABLES.items():
        if not has_table(database, table):
            parts = [f"{name} {kind}" for name, kind in declared.items()]
            key = _KEYS.get(table)
            ending = f", PRIMARY KEY ({key})) WITHOUT ROWID" if key else ")"
            database.execute(f"CREATE TABLE {table} ({', '.join(parts)}{ending}")
    if version_of(database) != VERSION:
        database.execute(f"PRAGMA user_version = {VERSION}")
