"""The history takes nobody's orders but ours, and one damaged run harms no other."""

import json
import os
import random
import shutil
import sqlite3
import subprocess
from collections import Counter

import pytest

from fiat.core.errors import FiatError
from fiat.host import trust
from fiat.host.history.place import BESIDE
from fiat.host.history.sqlite import SqliteHistory
from support.files import give_list, make, mode_of, states
from support.program import fiat, machine
from support.times import SEED, TIMES, report

STRANGER = 7101
WITH_MEMBERS = 7202


# --- whom it is taken from -----------------------------------------------------------------


WAYS = [
    (0, 0, 0o777, "", "anybody can write to"),
    (0, 0, 0o1777, "", "anybody can write to"),
    (STRANGER, 0, 0o755, "", "belongs to another user"),
    (0, WITH_MEMBERS, 0o775, "", f"group {WITH_MEMBERS} can write to"),
    (0, 0, 0o775, f"u::rwx,u:{STRANGER}:rwx,g::r-x,m::rwx,o::r-x", f"user {STRANGER} can write to"),
    (0, 7209, 0o775, "", ""),  # a group without members
    (0, 0, 0o755, f"u::rwx,u:{STRANGER}:rwx,g::r-x,m::r-x,o::r-x", ""),  # an entry that the mask cuts off
]
"""How a directory may be found: owner, group, mode and list, and what is said of it then."""


@pytest.mark.root
@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("depth", [0, 1])
@pytest.mark.parametrize("missing", [False, True])
def test_a_history_where_others_can_write_on_its_way_is_not_used(
    folder: str, way: tuple[int, int, int, str, str], depth: int, missing: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(trust, "_has_other_members", lambda gid: gid == WITH_MEMBERS)
    place = f"{folder}/a/b/history"
    os.makedirs(os.path.dirname(place), 0o755)
    path = make(f"{folder}/file", 0o640)
    if not missing:
        assert fiat("set", path, "--mode", "600", "--history", place).returncode == 0
    opened = os.path.dirname(place) if depth else f"{folder}/a"
    uid, gid, mode, entries, why = way
    os.chown(opened, uid, gid)
    os.chmod(opened, mode)
    if entries:
        give_list(opened, entries)
    history = SqliteHistory(place)
    if why:
        with pytest.raises(FiatError, match=why):
            history.runs()
        assert fiat("set", path, "--mode", "604", "--history", place).returncode == 4
        assert fiat("history", "--history", place).returncode == 3
        assert mode_of(path) == (0o640 if missing else 0o600)
        assert os.path.exists(place) != missing
    else:
        assert len(history.runs()) == (0 if missing else 1)


@pytest.mark.root
def test_links_and_what_lies_beside_must_be_ours_too(folder: str) -> None:
    place = f"{folder}/history"
    path = make(f"{folder}/file", 0o640)
    assert fiat("set", path, "--mode", "600", "--history", place).returncode == 0
    link = f"{folder}/link"
    os.symlink(folder, link)
    assert machine("history", "--history", f"{link}/history")["results"]
    os.lchown(link, STRANGER, 0)
    assert "belongs to another user" in fiat("history", "--history", f"{link}/history").stderr
    os.symlink(place, f"{folder}/straight")
    assert "is no regular file" in fiat("history", "--history", f"{folder}/straight").stderr
    for ending in BESIDE:
        beside = make(f"{place}{ending}", 0o600, text=b"orders")
        os.chown(beside, STRANGER, 0)
        done = fiat("undo", "--history", place)
        assert (done.returncode, "belongs to another user" in done.stderr) == (4, True), done
        os.unlink(beside)
    os.unlink(f"{place}.locks")
    os.symlink("/dev/zero", f"{place}.locks")
    done = fiat("undo", "--history", place)
    assert (done.returncode, mode_of(path)) == (4, 0o600)


@pytest.mark.root
def test_a_forged_journal_is_not_rolled_in(folder: str) -> None:
    """A stranger leaves a journal beside the database, so that root's undo opens a file of their choice."""
    secret, path = make(f"{folder}/secret", 0o600), make(f"{folder}/file", 0o640)
    shared = make(f"{folder}/shared", 0o777, directory=True)
    forged = SqliteHistory(f"{folder}/forged")
    assert (
        fiat("set", secret, "--mode", "666", "--accept", "everyone-writes", "--history", forged.place).returncode == 0
    )
    assert fiat("set", secret, "--mode", "600", "--history", forged.place).returncode == 0
    mine = f"{folder}/mine"
    assert fiat("set", path, "--mode", "600", "--history", mine).returncode == 0
    shutil.copy(mine, f"{shared}/history")
    with open(forged.place, "rb") as pages:
        journal = hot_journal(pages.read())
    with open(f"{shared}/history-journal", "wb") as beside:
        beside.write(journal)
    os.chmod(f"{shared}/history", 0o600)
    os.chmod(f"{shared}/history-journal", 0o600)
    os.chown(f"{shared}/history-journal", STRANGER, STRANGER)
    # that it is one that would be rolled in: SQLite does it, in a folder that it trusts
    trusting = make(f"{folder}/trusting", 0o700, directory=True)
    for name in ("history", "history-journal"):
        shutil.copy(f"{shared}/{name}", f"{trusting}/{name}")
        os.chmod(f"{trusting}/{name}", 0o600)
    assert json.dumps(secret) in str(
        sqlite3.connect(f"{trusting}/history").execute("SELECT command FROM run").fetchall()
    )
    for words in (("undo",), ("history",), ("set", path, "--mode", "644")):
        assert fiat(*words, "--history", f"{shared}/history").returncode in (3, 4)
    assert (mode_of(secret), mode_of(path)) == (0o600, 0o600)


def hot_journal(pages: bytes) -> bytes:
    """A rollback journal (sqlite.org/fileformat2.html, "The Rollback Journal") that holds these pages."""
    size = int.from_bytes(pages[16:18], "big")
    count = len(pages) // size
    header = b"\xd9\xd5\x05\xf9\x20\xa1\x63\xd7" + b"".join(n.to_bytes(4, "big") for n in (count, 0, count, 512, size))
    body = b""
    for number in range(count):
        page = pages[number * size : (number + 1) * size]
        checksum = sum(page[at] for at in range(size - 200, 0, -200)) & 0xFFFFFFFF
        body += (number + 1).to_bytes(4, "big") + page + checksum.to_bytes(4, "big")
    return header.ljust(512, b"\0") + body


# --- damage --------------------------------------------------------------------------------


def a_history_of_three(folder: str) -> tuple[str, list[str]]:
    place = f"{folder}/history"
    paths = [make(f"{folder}/file{number}", 0o640) for number in range(3)]
    for path in paths:
        assert fiat("set", path, "--mode", "600", "--history", place).returncode == 0
    return place, paths


def json_set(place: str, value: str) -> str:
    return f"UPDATE block SET fields = json_set(fields, '$.{place}', {value}) WHERE run = 2"


@pytest.mark.parametrize(
    ("statement", "says"),
    [
        ("UPDATE run SET shifts = 'x' WHERE number = 2", "it is not as it was written"),
        ("UPDATE run SET shifts = 'x', seal = NULL WHERE number = 2", "shifts is no JSON"),
        ("UPDATE run SET started = 'then', seal = NULL WHERE number = 2", "a time in seconds is right"),
        ("UPDATE run SET process = x'00ff', seal = NULL WHERE number = 2", "process is"),
        ("UPDATE run SET paths = -1, seal = NULL WHERE number = 2", "paths is the number -1"),
        ("UPDATE run SET command = '[[[[', seal = NULL WHERE number = 2", "command is no JSON"),
        ("UPDATE run SET command = '[\"\x1b[2J\", 3]', seal = NULL WHERE number = 2", "command"),
        ("UPDATE block SET fields = replace(fields, 'null', 'null ') WHERE run = 2", "has entries that are not"),
        ("UPDATE block SET fields = '\x1b]0;x\x07' WHERE run = 2", "is no JSON"),
        (json_set("changes[0][1]", "7"), "a posture that is missing"),
        (json_set("postures[0][3]", "1"), "a posture that is missing"),
        (json_set("postures[0]", "json('[1]')"), "a posture that is missing"),
        (json_set("postures[0][0]", "4096"), "mode of a posture"),
        (json_set("path[0]", "'/etc/passwd'"), "has entries that are not"),
        (json_set("path[0]", "'relative'"), "no path that begins with /"),
        (json_set("path", "json('[]')"), "is not whole"),
        (json_set("inode[0]", "'x'"), "inode[0]"),
        (json_set("inode[0]", "-1"), "inode[0]"),
        (json_set("inode[0]", "1.5"), "inode[0]"),
        (json_set("inode[0]", "7"), "has entries that are not"),
        ("UPDATE block SET first = -5 WHERE run = 2", "is not whole"),
        ("INSERT INTO fate VALUES (2, 0, 0, 99, NULL)", "a fate that is none"),
        ("INSERT INTO fate VALUES (2, 0, 1, 2, NULL)", "a fate that is none"),
        ("INSERT INTO fate VALUES (2, 0, 0, 2, NULL)", "has entries that are not"),
        ("DELETE FROM block WHERE run = 2", "has entries that are not"),
    ],
)
def test_a_damaged_run_is_named_and_left_out(folder: str, statement: str, says: str) -> None:
    place, paths = a_history_of_three(folder)
    database = sqlite3.connect(place)
    database.execute(statement)
    database.commit()
    database.close()
    verified = machine("history", "--verify", "--history", place, status=1)
    assert [one["run"] for one in verified["results"]] == [2]
    assert says in verified["results"][0]["text"]
    assert verified["whole"] == 2
    listed = machine("history", "--history", place)
    assert {one["run"] for one in listed["results"]} >= {1, 3}
    assert len(listed["results"]) + len(listed["damaged"]) == 3
    for words in (("undo", "2"), ("history", "2")):
        done = fiat(*words, "--history", place)
        assert (done.returncode, "run 2 is damaged, and left alone" in done.stderr) == (2, True), done
        assert done.stderr.count("\n") == 1
    assert fiat("undo", "--history", place).returncode == 0
    done = fiat("undo", "--history", place)
    assert (done.returncode, "Passed over: run 2, which is damaged" in done.stdout) == (0, True), done
    assert [mode_of(path) for path in paths] == [0o640, 0o600, 0o640]
    assert fiat("set", paths[0], "--mode", "604", "--history", place).returncode == 0


def test_files_of_a_history_are_open_to_their_owner_whatever_the_umask(folder: str) -> None:
    path, place = make(f"{folder}/file", 0o640), f"{folder}/history"
    before = os.umask(0o777)
    try:
        assert fiat("set", path, "--mode", "600", "--history", place).returncode == 0
    finally:
        os.umask(before)
    assert {name: mode_of(f"{folder}/{name}") for name in os.listdir(folder) if name != "file"} == {
        "history": 0o600,
        "history.locks": 0o600,
    }


def test_what_is_no_history_is_neither_read_nor_written(folder: str) -> None:
    path, place = make(f"{folder}/file", 0o640), f"{folder}/other"
    statements: tuple[str, ...]
    for statements, says in (
        (("CREATE TABLE bookmarks (x)",), "a database of something else"),
        (("CREATE TABLE run (number)", "CREATE TABLE entry (run)", "CREATE TABLE posture (run)"), "something else"),
        (("CREATE TABLE run (number)", "PRAGMA user_version = 7"), "newer Fiat (version 7"),
        (('CREATE TABLE "\x1b[2J" (x)', "PRAGMA user_version = 2"), "a database of something else"),
    ):
        database = sqlite3.connect(place)
        for statement in statements:
            database.execute(statement)
        database.commit()
        database.close()
        os.chmod(place, 0o600)
        refused(path, place, says)
    good, _ = a_history_of_three(folder)
    for statement, says in (
        ("CREATE TRIGGER more AFTER INSERT ON block BEGIN DELETE FROM run; END", "a database of something else"),
        ("CREATE VIEW v AS SELECT 1", "a database of something else"),
        ("ALTER TABLE fate DROP COLUMN found", "a database of something else"),
        ("PRAGMA user_version = 5", "newer Fiat (version 5"),
        ("PRAGMA user_version = 2", "before the first release (version 2"),
        ("PRAGMA user_version = -3", "a database of something else"),
    ):
        shutil.copy(good, place)
        database = sqlite3.connect(place)
        database.execute(statement)
        database.commit()
        database.close()
        refused(path, place, says)
    for contents in (b"no database at all " * 300, b"\x1b[2J\0" * 5, b"SQLite format 3\0" + bytes(84) + b"\xff" * 4000):
        with open(place, "wb") as file:
            file.write(contents)
        refused(path, place, "")


def refused(path: str, place: str, says: str) -> None:
    with open(place, "rb") as file:
        before = file.read()
    for words, status in (
        (("set", path, "--mode", "600"), 4), (("undo",), 4), (("history",), 3), (("history", "--verify"), 3),
    ):  # fmt: skip
        done = fiat(*words, "--history", place)
        assert (done.returncode, says in done.stderr, done.stderr.count("\n")) == (status, True, 1), (says, done)
    assert mode_of(path) == 0o640
    with open(place, "rb") as file:
        assert file.read() == before
    os.unlink(place)


def test_no_damaged_byte_does_more_than_name_the_run_it_is_in(folder: str) -> None:
    """Wherever it is: no traceback, no other mode than those the runs had, and what is whole can be used."""
    place, paths = a_history_of_three(folder)
    with open(place, "rb") as file:
        whole = file.read()
    dice = random.Random(SEED + 1)
    counts = Counter[str]()
    spots = [at for at, byte in enumerate(whole) if byte]  # most of the file is empty
    for _ in range(150 * TIMES):
        damaged = bytearray(whole)
        at = dice.choice(spots)
        damaged[at] ^= 1 << dice.randrange(8)
        with open(place, "wb") as file:
            file.write(damaged)
        history = SqliteHistory(place)
        try:
            found = {run.number for run in history.runs()}
            named = {one.number for one in history.verify()}
        except FiatError:  # the file as a whole is no history any more: its beginning, or its tables
            counts["none"] += 1
            continue
        bad = {number for number in (1, 2, 3) if not readable(history, number)}
        assert bad <= named, (at, bad, named)
        counts["damaged"] += bool(bad)
        counts["harmless"] += not named
        counts["all three"] += len(bad) == 3
        assert len(found) + len(bad) >= 3
    assert counts["damaged"] > 30 * TIMES
    assert counts["all three"] < counts["damaged"] / 2  # those that share a page with the others' entries
    for path in paths:
        assert mode_of(path) == 0o600
    report("damaged bytes", **{name.replace(" ", "_"): count for name, count in counts.items()})


def readable(history: SqliteHistory, number: int) -> bool:
    try:
        return history.run(number).number == number and len(history.entries(number)) == 1
    except FiatError:
        return False


@pytest.mark.root
def test_with_a_full_disk_what_was_done_can_be_put_back(folder: str) -> None:
    """The disk of the history fills while the run is under way, or is full before."""
    path = make(f"{folder}/file", 0o640)
    small = make(f"{folder}/small", 0o700, directory=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=256k,mode=700", "none", small], check=True)
    try:
        place = f"{small}/history"
        assert fiat("set", path, "--mode", "600", "--history", place).returncode == 0
        size = os.statvfs(small)
        with open(f"{small}/filler", "wb") as filler:
            filler.write(bytes(size.f_bavail * size.f_bsize))
        done = fiat("undo", "--history", place)
        assert (done.returncode, mode_of(path), "full" in done.stderr) == (4, 0o600, True), done
        assert fiat("undo", "--history", place, "--no-history").returncode == 0
        assert mode_of(path) == 0o640
        os.unlink(f"{small}/filler")
        assert fiat("history", "--verify", "--history", place).returncode == 0
    finally:
        subprocess.run(["umount", small], check=True)


@pytest.mark.root
def test_wherever_the_disk_of_the_history_ends_all_is_done_or_nothing(folder: str) -> None:
    top, small = f"{folder}/tree", make(f"{folder}/small", 0o700, directory=True)
    make(top, 0o755, directory=True)
    for number in range(400):
        make(f"{top}/{number}", 0o644)
    before = states(top)
    ends = Counter[int]()
    for size in range(8, 400, 56 if TIMES == 1 else 4):
        subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={size}k,mode=700", "none", small], check=True)
        try:
            done = fiat("set", top, "--below", "--mode", "go=", "--history", f"{small}/history")
            changed = sum(now != before[path] for path, now in states(top).items())
            assert (done.returncode, changed) in ((4, 0), (0, 401)), (size, done)
            ends[done.returncode] += 1
            if changed:
                undone = fiat("undo", "--history", f"{small}/history")
                if undone.returncode == 4:
                    ends[-4] += 1
                    undone = fiat("undo", "--no-history", "--history", f"{small}/history")
                assert undone.returncode == 0, (size, undone)
            assert states(top) == before, size
        finally:
            subprocess.run(["umount", small], check=True)
    assert ends[4] > 1
    assert ends[0] > 1
    report("sizes of a disk", refused=ends[4], done=ends[0], undone_without_history=ends[-4])
