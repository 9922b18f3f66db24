"""The history in a file of SQLite, readable by its owner alone.

What is about to change is committed, with the file and its folder flushed to
disk, before it changes. A run that is killed stays as it was begun: what
happened to each path is then seen by looking at it.
"""

import json
import os
import sqlite3
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress

from fiat.core.change.history import (
    Claim,
    Damage,
    Intended,
    Run,
    RunBeginning,
    RunEntry,
    RunState,
    SettledObjects,
    Waiting,
)
from fiat.core.errors import HistoryError, RecordError, RunDamaged, RunError
from fiat.core.text import quoted, visible
from fiat.host.history import blocks, runrows, tables
from fiat.host.history.locks import locked, this_process
from fiat.host.history.place import trusted
from fiat.host.history.seals import Row, seal_of

_PATIENCE = 60.0
"""Seconds to wait for another Fiat that is writing."""

_LOCKS = ".locks"

_SAID = 5
"""Lines of what SQLite finds wrong with its file that are passed on."""


class SqliteHistory:
    """A history in the file ``place``, which is made where it is missing; with ``make_folder`` its folder too."""

    def __init__(self, place: str, *, make_folder: bool = False) -> None:
        try:
            self.place = os.path.abspath(place)
        except OSError as error:
            raise HistoryError(
                f"the history {quoted(place)} cannot be found: the current directory has been removed"
            ) from error
        self._make_folder = make_folder
        self._ended: dict[tuple[int, str], Run] = {}  # by number and seal: each is made sense of once

    # --- writing ---

    @contextmanager
    def alone(self, claims: Sequence[Claim], waiting: Waiting) -> Iterator[None]:
        """Nobody else who uses this history changes what is claimed meanwhile: waits for who does."""

        def wait() -> None:
            waiting(next((run for run in self.runs() if run.state is RunState.RUNNING), None))

        with ExitStack() as held:
            with self._told("written"):
                place = trusted(self.place, make_folder=self._make_folder) + _LOCKS
                held.enter_context(locked(place, claims, wait))
            yield

    def begin(self, beginning: RunBeginning, intended: Intended) -> int:
        """Write down what is about to change, in this order; the number of the run. On return it is safe on disk."""
        with self._written() as database:
            cursor = database.execute(
                "INSERT INTO run (started, uid, user, command, folder, process, paths, undoes, undoes_in_part,"
                " behind, shifts) VALUES (?, ?, ?, ?, ?, ?, 0, ?, ?, ?, ?)",
                (
                    time.time(),
                    beginning.uid,
                    json.dumps(beginning.user),
                    json.dumps(beginning.command),
                    json.dumps(_folder()),
                    this_process(),
                    runrows.column_of(() if beginning.undoes is None else (beginning.undoes, *beginning.undoes_also)),
                    runrows.column_of(beginning.undoes_in_part),
                    json.dumps(None if beginning.behind is None else runrows.BEHIND.write(beginning.behind)),
                    json.dumps({"gains": beginning.gains, "losses": beginning.losses}),
                ),
            )
            number = cursor.lastrowid or 0
            made = blocks.Blocks(number)
            _insert(database, "block", blocks.BLOCK_COLUMNS, made.rows(intended))
            database.execute(
                "UPDATE run SET paths = ?, entries_seal = ? WHERE number = ?", (made.count, made.seal.text(), number)
            )
            _seal(database, number)
        return number

    def finish(self, number: int, settled: Sequence[SettledObjects], *, changed: int, complete: bool) -> None:
        """Write down what has become of the run, and of the objects that were not simply changed."""
        with self._written() as database:
            rows = blocks.fate_rows(settled)
            _insert(database, "fate", blocks.FATE_COLUMNS, ((number, *row) for row in rows))
            database.execute(
                "UPDATE run SET ended = ?, changed = ?, complete = ?, fates_seal = ? WHERE number = ?",
                (time.time(), changed, complete, seal_of(*rows), number),
            )
            _seal(database, number)

    # --- reading ---

    def runs(self) -> list[Run]:
        """All runs that can be read, the latest first."""
        return self._all_runs()[0]

    def damage(self) -> list[Damage]:
        """Runs that :meth:`runs` leaves out, for they cannot be read, the latest first."""
        return self._all_runs()[1]

    def run(self, number: int) -> Run:
        """The run of this number; :class:`RunError` where there is none, or it is damaged."""
        runs, damage = self._all_runs()
        for run in runs:
            if run.number == number:
                return run
        for one in damage:
            if one.number == number:
                raise RunDamaged(number, one.text)
        numbers = sorted([run.number for run in runs] + [one.number for one in damage if one.number])
        known = f"they go from {numbers[0]} to {numbers[-1]}" if numbers else "it is empty"
        raise RunError(f"no run in the history has the number {number}; {known}, and fiat history lists them")

    def _all_runs(self) -> tuple[list[Run], list[Damage]]:
        """Those that can be read, and those that cannot."""
        found: list[Run] = []
        damage: list[Damage] = []
        if not self._is_there():
            return found, damage
        with self._read() as database:
            for number, row in _run_rows(database) if not tables.empty(database) else ():
                try:
                    if row is None:
                        raise RecordError("it", "cannot be read")
                    found.append(runrows.run_of(row, self._ended))
                except RecordError as error:
                    damage.append(Damage(number, str(error)))
        found.sort(key=lambda run: -run.number)
        damage.sort(key=lambda one: -(one.number or 0))
        return runrows.with_undone(found), damage

    def entries(self, number: int) -> list[RunEntry]:
        """What a run was to change, in the order of the changes; :class:`RunDamaged` where any of it is damaged."""
        found = self._entries(number)
        if isinstance(found, Damage):
            raise RunDamaged(number, found.text)
        return found

    def verify(self) -> list[Damage]:
        """Everything that is wrong with it, the latest run first: each entry of each run is read."""
        runs, found = self._all_runs()
        for run in runs:
            entries = self._entries(run.number)
            if isinstance(entries, Damage):
                found.append(entries)
            elif len(entries) != run.paths:
                found.append(Damage(run.number, f"{len(entries)} of its {run.paths} entries are there"))
        found.sort(key=lambda one: -(one.number or 0))
        if self._is_there():
            with self._read() as database:
                found += (Damage(None, text) for text in _wrong_with_file(database))
        return found

    def _entries(self, number: int) -> list[RunEntry] | Damage:
        with self._read() as database:
            try:
                return _entries(database, number)
            except RecordError as error:
                return Damage(number, str(error))
            except sqlite3.DatabaseError as error:
                if isinstance(error, sqlite3.OperationalError):  # another process, or the disk: not what is in it
                    raise
                return Damage(number, "its entries cannot be read")

    # --- the file ---

    def _is_there(self) -> bool:
        with self._told("read"):
            try:
                return os.path.lexists(trusted(self.place))
            except FileNotFoundError:
                return False

    @contextmanager
    def _read(self) -> Iterator[sqlite3.Connection]:
        """The database, to be read."""
        with self._told("read"):
            database = tables.connect(trusted(self.place), _PATIENCE)
            try:
                database.row_factory = sqlite3.Row
                tables.empty(database)
                yield database
            finally:
                tables.close(database)

    @contextmanager
    def _written(self) -> Iterator[sqlite3.Connection]:
        """The database, in one transaction."""
        with self._told("written"):
            path = trusted(self.place, make_folder=self._make_folder)
            _make(path)
            database = tables.connect(path, _PATIENCE)
            try:
                tables.empty(database)  # else what is no history would be written to
                database.execute("BEGIN IMMEDIATE")
                tables.prepare(database)
                yield database
                database.execute("COMMIT")
            finally:
                tables.close(database)

    @contextmanager
    def _told(self, done: str) -> Iterator[None]:
        """Say of every error which history it is about, in one line that is safe to print."""
        try:
            yield
        except RunError:
            raise
        except HistoryError as error:
            text = str(error)
            raise (error if text.startswith(("the history", "what is kept")) else self._error(text)) from error
        except OSError as error:
            raise self._error(f"cannot be {done}: {error.strerror or visible(str(error))}", done) from error
        except (sqlite3.Error, ValueError) as error:
            raise self._error(f"cannot be {done}: {_words(error)}", done) from error

    def _error(self, text: str, done: str = "") -> HistoryError:
        return HistoryError(f"the history {quoted(self.place)} {text}", only_to_write=done == "written")


def _make(path: str) -> None:
    """Make the file where it is missing, and see to it that it and its folder are on disk."""
    try:
        fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    except FileExistsError:
        return
    try:
        os.fchmod(fd, 0o600)
        os.fsync(fd)
    finally:
        os.close(fd)
    fd = os.open(os.path.dirname(path), os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def _seal(database: sqlite3.Connection, number: int) -> None:
    """Seal the row of a run as it is now."""
    row = database.execute(f"SELECT {', '.join(runrows.RUN_COLUMNS)} FROM run WHERE number = ?", (number,)).fetchone()
    database.execute("UPDATE run SET seal = ? WHERE number = ?", (seal_of(tuple(row)), number))


def _insert(database: sqlite3.Connection, table: str, columns: Sequence[str], rows: Iterable[Row]) -> None:
    """Add rows, each of a run and these columns."""
    names = ("run", *columns)
    database.executemany(f"INSERT INTO {table} ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})", rows)


def _run_rows(database: sqlite3.Connection) -> Iterator[tuple[int, sqlite3.Row | None]]:
    """The row of each run with its number; None for one that cannot be read.

    One that is not there is such a one: none is ever taken away.
    """
    query = f"SELECT {', '.join((*runrows.RUN_COLUMNS, 'seal'))} FROM run"
    found: dict[int, sqlite3.Row | None] = {}
    latest = _latest(database)
    try:
        found.update((row["number"], row) for row in database.execute(query).fetchall())
    except sqlite3.OperationalError:
        raise
    except sqlite3.DatabaseError:  # one by one, then
        for number in range(1, latest + 1):
            with suppress(sqlite3.DatabaseError):
                row = database.execute(f"{query} WHERE number = ?", (number,)).fetchone()
                if row is not None:
                    found[number] = row
    missing = [number for number in range(1, latest + 1) if number not in found]
    found.update(dict.fromkeys(missing[-_NAMED:]))
    yield from found.items()


def _latest(database: sqlite3.Connection) -> int:
    """The number of the latest run, by the count that SQLite keeps and by the other tables."""
    found = 0
    for query in (
        "SELECT seq FROM sqlite_sequence WHERE name = 'run'",
        "SELECT max(run) FROM block",
    ):
        with suppress(sqlite3.DatabaseError):
            row = database.execute(query).fetchone()
            if row is not None and isinstance(row[0], int) and row[0] < _MOST_RUNS:
                found = max(found, row[0])
    return found


_MOST_RUNS = 1_000_000
"""A number of a run over this is damage itself."""

_NAMED = 1000
"""Runs that are not there are named, the latest so many."""


def _entries(database: sqlite3.Connection, number: int) -> list[RunEntry]:
    row = database.execute("SELECT entries_seal, fates_seal FROM run WHERE number = ?", (number,)).fetchone()
    seals = tuple(row) if row is not None else (None, None)
    made, fates = (
        _rows(database, table, names, number)
        for table, names in (("block", blocks.BLOCK_COLUMNS), ("fate", blocks.FATE_COLUMNS))
    )
    return blocks.entries_of(made, fates, seals)


def _rows(database: sqlite3.Connection, table: str, names: Sequence[str], number: int) -> list[Row]:
    """These columns of the rows of a run, in the order of the first of them."""
    query = f"SELECT {', '.join(names)} FROM {table} WHERE run = ? ORDER BY {names[0]}"
    return list(map(tuple, database.execute(query, (number,)).fetchall()))


def _wrong_with_file(database: sqlite3.Connection) -> Iterator[str]:
    """What SQLite itself finds wrong with the file as a whole."""
    try:
        found = [str(row[0]) for row in database.execute(f"PRAGMA integrity_check({_SAID})")]
    except sqlite3.DatabaseError as error:
        found = [_words(error)]
    for text in found:
        if text != "ok":
            yield visible(" ".join(text.split()))


_WORDS = {
    "SQLITE_CORRUPT": "it is damaged",
    "SQLITE_NOTADB": "it is no database of SQLite, or its beginning is damaged",
    "SQLITE_FULL": "the disk is full",
    "SQLITE_BUSY": "another process has been writing to it for a minute",
    "SQLITE_READONLY": "it may not be written to",
    "SQLITE_CANTOPEN": "it cannot be opened",
    "SQLITE_NOMEM": "there is not enough memory",
    "SQLITE_IOERR": "the disk fails, or is full",
    "SQLITE_TOOBIG": "it is damaged",
}


def _words(error: Exception) -> str:
    """What SQLite means: its own words can hold those of who wrote the file."""
    name = getattr(error, "sqlite_errorname", None) or ""
    for code, words in _WORDS.items():
        if name.startswith(code):
            return words
    return visible(str(error))[:200]


def _folder() -> str:
    try:
        return os.getcwd()
    except OSError:
        return ""  # it has been removed
