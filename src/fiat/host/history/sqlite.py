"""The history in a file of SQLite, readable by its owner alone.

What is about to change is committed, with the file and its folder flushed to
disk, before it changes. A run that is killed stays as it was begun: what
happened to each path is then seen by looking at it.
"""

import json
import os
import sqlite3
import stat
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

from fiat.core.ask.keptshifts import KeptShift
from fiat.core.change.history import Beginning, Entry, Fate, Run, State
from fiat.core.errors import FiatError, HistoryError
from fiat.core.model import record
from fiat.core.model.identity import Identity
from fiat.core.model.posture import Posture
from fiat.core.text import quoted

_PATIENCE = 60.0
"""Seconds to wait for another Fiat that is writing."""

_ROOTS = "/var/lib/fiat"
_NAME = "history.db"
_VERSION = 2
"""Version 1 knew neither flags nor file systems; it is read, and brought up to this when it is written."""

_TABLES = """
CREATE TABLE run (
    number INTEGER PRIMARY KEY AUTOINCREMENT,
    started REAL NOT NULL,
    ended REAL,
    uid INTEGER NOT NULL,
    user TEXT NOT NULL,
    command TEXT NOT NULL,
    folder TEXT NOT NULL,
    process TEXT NOT NULL,
    paths INTEGER NOT NULL,
    changed INTEGER,
    complete INTEGER,
    undoes INTEGER,
    shifts TEXT NOT NULL
);
CREATE TABLE posture (
    run INTEGER NOT NULL,
    number INTEGER NOT NULL,
    fields TEXT NOT NULL,
    PRIMARY KEY (run, number)
) WITHOUT ROWID;
CREATE TABLE entry (
    run INTEGER NOT NULL,
    place INTEGER NOT NULL,
    path BLOB NOT NULL,
    filesystem TEXT NOT NULL,
    inode INTEGER NOT NULL,
    birth INTEGER NOT NULL,
    before INTEGER NOT NULL,
    after INTEGER NOT NULL,
    on_the_way TEXT,
    fate INTEGER NOT NULL,
    PRIMARY KEY (run, place)
) WITHOUT ROWID;
"""


def usual_place() -> str:
    """Where the history of whoever acts is kept: for root under /var/lib, for others in their own state folder."""
    if os.geteuid() == 0:
        return f"{_ROOTS}/{_NAME}"
    from platformdirs import user_state_dir

    return os.path.join(user_state_dir("fiat"), _NAME)


class SqliteHistory:
    """A history in the file ``place``, which is made where it is missing; with ``make_folder`` its folder too."""

    def __init__(self, place: str, *, make_folder: bool = False) -> None:
        self.place = os.path.abspath(place)
        self._make_folder = make_folder

    # --- writing ---

    def begin(self, beginning: Beginning, entries: Iterable[Entry]) -> int:
        """Write down what is about to change; the number of the run. On return it is safe on disk."""
        with self._opened(write=True) as database:
            cursor = database.execute(
                "INSERT INTO run (started, uid, user, command, folder, process, paths, undoes, shifts)"
                " VALUES (?, ?, ?, ?, ?, ?, 0, ?, ?)",
                (
                    time.time(),
                    os.geteuid(),
                    json.dumps(beginning.user),
                    json.dumps(beginning.command),
                    json.dumps(_folder()),
                    _this_process(),
                    beginning.undoes,
                    json.dumps({"gains": beginning.gains, "losses": beginning.losses}),
                ),
            )
            number = cursor.lastrowid or 0
            postures = _Numbers()
            cursor.executemany(
                "INSERT INTO entry (run, place, path, filesystem, inode, birth, before, after, on_the_way, fate)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                _rows(number, entries, postures),
            )
            cursor.executemany("INSERT INTO posture VALUES (?, ?, ?)", postures.rows(number))
            cursor.execute(
                "UPDATE run SET paths = (SELECT count(*) FROM entry WHERE run = ?1) WHERE number = ?1", (number,)
            )
        return number

    def finish(self, number: int, fates: Sequence[tuple[int, Fate]], *, changed: int, complete: bool) -> None:
        """Write down what has become of the run, and of the places that were not simply changed."""
        with self._opened(write=True) as database:
            database.executemany(
                "UPDATE entry SET fate = ? WHERE run = ? AND place = ?",
                ((fate.value, number, place) for place, fate in fates),
            )
            database.execute(
                "UPDATE run SET ended = ?, changed = ?, complete = ? WHERE number = ?",
                (time.time(), changed, complete, number),
            )

    # --- reading ---

    def runs(self) -> list[Run]:
        """All runs, the latest first."""
        if not os.path.lexists(self.place):
            return []
        with self._opened() as database:
            if not _has_tables(database):
                return []
            rows = database.execute(
                "SELECT number, started, ended, uid, user, command, folder, process, paths, changed, complete, undoes,"
                " shifts FROM run ORDER BY number"
            ).fetchall()
        # an undo that went through makes the run that it undid undone, unless it was itself undone since
        undone_by: dict[int, int] = {}
        for number, *_, complete, undoes, _ in reversed(rows):
            if undoes is not None and complete and number not in undone_by:
                undone_by.setdefault(undoes, number)
        return [_run(row, undone_by.get(row[0])) for row in reversed(rows)]

    def run(self, number: int) -> Run:
        """One run; :class:`HistoryError` where there is none of this number."""
        runs = self.runs()
        for run in runs:
            if run.number == number:
                return run
        known = f"they go from {runs[-1].number} to {runs[0].number}" if runs else "it is empty"
        raise HistoryError(f"no run in the history has the number {number}; {known}, and fiat history lists them")

    def entries(self, number: int, *, backwards: bool = False) -> Iterator[Entry]:
        """What a run was to change, in the order of the changes or from the last to the first."""
        order = "DESC" if backwards else "ASC"
        with self._opened() as database:
            first = _version(database) < _VERSION
            postures = {
                one: _posture(fields, number, one, flags_unknown=first)
                for one, fields in database.execute("SELECT number, fields FROM posture WHERE run = ?", (number,))
            }
            filesystem = "''" if first else "filesystem"
            for place, path, system, inode, birth, before, after, between, fate in database.execute(
                f"SELECT place, path, {filesystem}, inode, birth, before, after, on_the_way, fate FROM entry"
                f" WHERE run = ? ORDER BY place {order}",
                (number,),
            ):
                yield Entry(
                    place,
                    os.fsdecode(path),
                    Identity(system, inode & 0xFFFFFFFFFFFFFFFF, birth),
                    postures[before],
                    postures[after],
                    tuple(postures[one] for one in json.loads(between or "[]")),
                    Fate(fate),
                )

    # --- the file ---

    @contextmanager
    def _opened(self, *, write: bool = False) -> Iterator[sqlite3.Connection]:
        """The database, in one transaction where it is to be written."""
        try:
            if write:
                self._make()
            self._look_at_file()
            database = sqlite3.connect(self.place, timeout=_PATIENCE, isolation_level=None)
            try:
                database.execute("PRAGMA synchronous = EXTRA")
                if _has_tables(database) and _version(database) > _VERSION:
                    raise HistoryError(
                        f"the history {quoted(self.place)} was written by a newer Fiat (version {_version(database)} "
                        f"of it, and this one knows {_VERSION}); use that one, or another --history"
                    )
                if not write:
                    yield database
                    return
                database.execute("BEGIN IMMEDIATE")
                if not _has_tables(database):
                    for statement in _TABLES.split(";"):
                        database.execute(statement)
                    database.execute(f"PRAGMA user_version = {_VERSION}")
                elif _version(database) < _VERSION:
                    _bring_up(database)
                yield database
                database.execute("COMMIT")
            finally:
                with suppress(sqlite3.Error):
                    database.close()  # what was not committed is rolled back
        except (OSError, sqlite3.Error, FiatError, ValueError) as error:
            if isinstance(error, HistoryError):
                raise
            raise HistoryError(
                f"the history {quoted(self.place)} cannot be {'written' if write else 'read'}: {_why(error)}"
            ) from error

    def _make(self) -> None:
        """Make the folder and the file where they are missing, and see to it that both are on disk."""
        folder = os.path.dirname(self.place)
        if self._make_folder:
            os.makedirs(folder, mode=0o700, exist_ok=True)
        try:
            fd = os.open(self.place, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        except FileExistsError:
            return
        try:
            os.fchmod(fd, 0o600)
            os.fsync(fd)
        finally:
            os.close(fd)
        fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(fd)
        finally:
            os.close(fd)

    def _look_at_file(self) -> None:
        """Refuse a file that others may have written to: what is put back from it is done with our rights."""
        status = os.lstat(self.place)
        if not stat.S_ISREG(status.st_mode):
            raise HistoryError(f"the history {quoted(self.place)} is no regular file, and is not used")
        if status.st_uid != os.geteuid():
            raise HistoryError(f"the history {quoted(self.place)} belongs to another user, and is not used")
        if status.st_mode & 0o077:
            raise HistoryError(
                f"the history {quoted(self.place)} is open to others ({stat.S_IMODE(status.st_mode):04o}); "
                "its mode must be 0600, and what it says must be checked first"
            )


def _has_tables(database: sqlite3.Connection) -> bool:
    """Whether anything was ever written to it."""
    return bool(database.execute("SELECT count(*) FROM sqlite_master").fetchone()[0])


def _version(database: sqlite3.Connection) -> int:
    return int(database.execute("PRAGMA user_version").fetchone()[0])


def _bring_up(database: sqlite3.Connection) -> None:
    """Make a history of version 1 one of this version: file systems and flags stay unknown."""
    database.execute("ALTER TABLE entry ADD COLUMN filesystem TEXT NOT NULL DEFAULT ''")
    database.execute("ALTER TABLE entry DROP COLUMN device")
    database.execute("""UPDATE posture SET fields = json_set(fields, '$.flags', NULL)""")
    database.execute(f"PRAGMA user_version = {_VERSION}")


def _posture(fields: str, run: int, number: int, *, flags_unknown: bool) -> Posture:
    found = record.POSTURE.read(json.loads(fields), f"posture {number} of run {run}")
    return found._replace(flags=None) if flags_unknown else found


def _shifts(kept: Iterable[Sequence[Any]]) -> tuple[KeptShift, ...]:
    """Gains or losses; those of version 1 do not tell rights that go with others apart."""
    return tuple(KeptShift(who, right, paths, *(apart or [paths])) for who, right, paths, *apart in kept)


class _Numbers:
    """Postures by number; each is kept once for a run."""

    def __init__(self) -> None:
        self._known: dict[Posture, int] = {}

    def of(self, posture: Posture) -> int:
        return self._known.setdefault(posture, len(self._known))

    def rows(self, run: int) -> Iterator[tuple[int, int, str]]:
        for posture, number in self._known.items():
            yield run, number, json.dumps(record.POSTURE.write(posture))


def _rows(run: int, entries: Iterable[Entry], numbers: _Numbers) -> Iterator[tuple[object, ...]]:
    for place, path, (filesystem, inode, birth), before, after, between, fate in entries:
        on_the_way = json.dumps([numbers.of(one) for one in between]) if between else None
        signed = inode - (1 << 64) if inode >= 1 << 63 else inode
        pair = numbers.of(before), numbers.of(after)
        yield run, place, os.fsencode(path), filesystem, signed, birth, *pair, on_the_way, fate.value


def _run(row: tuple[object, ...], undone_by: int | None) -> Run:
    number, started, ended, uid, user, command, folder, process, paths, changed, complete, undoes, shifts = row
    kept = json.loads(str(shifts))
    if undone_by is not None:
        state = State.UNDONE
    elif ended is None:
        state = State.RUNNING if _runs(str(process)) else State.PARTIAL
    else:
        state = State.DONE if complete else State.PARTIAL
    return Run(
        number=int(str(number)),
        started=float(str(started)),
        ended=None if ended is None else float(str(ended)),
        uid=int(str(uid)),
        user=json.loads(str(user)),
        command=tuple(json.loads(str(command))),
        folder=json.loads(str(folder)),
        state=state,
        paths=int(str(paths)),
        changed=int(str(changed or 0)),
        undoes=None if undoes is None else int(str(undoes)),
        undone_by=undone_by,
        gains=_shifts(kept["gains"]),
        losses=_shifts(kept["losses"]),
    )


def _folder() -> str:
    try:
        return os.getcwd()
    except OSError:
        return ""  # it has been removed


def _this_process() -> str:
    """What tells this process from any other, before and after a restart of the machine too."""
    return f"{os.getpid()} {_started(os.getpid())}"


def _runs(process: str) -> bool:
    """Whether the process that :func:`_this_process` named is still there."""
    number, _, started = process.partition(" ")
    return _started(int(number)) == started


def _started(pid: int) -> str:
    """When a process began, with the number of this boot (proc(5)); empty where there is none."""
    try:
        with open(f"/proc/{pid}/stat", "rb") as file:
            since = file.read().rpartition(b")")[2].split()[19].decode()
        with open("/proc/sys/kernel/random/boot_id", "rb") as file:
            return f"{since} {file.read().strip().decode()}"
    except OSError:
        return ""


def _why(error: Exception) -> str:
    if isinstance(error, OSError):
        return error.strerror or str(error)
    return str(error)
