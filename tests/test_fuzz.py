"""Whatever is typed, and whatever files are given: documented statuses, one line for what is wrong, and no harm done.

FIAT_TEST_TIMES=60 makes about an hour of it; what it looked at in the longest run is in docs/safety.md.
"""

import json
import os
import re
import sqlite3
import subprocess
from collections import Counter
from collections.abc import Iterator
from contextlib import closing, suppress
from functools import reduce
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fiat.app.why import RIGHT_NAMES
from fiat.core.audit.registry import RULES
from fiat.core.change.guards import GUARDS
from fiat.demo.sample import SNAPSHOT
from support.files import give_list, make, set_state, states
from support.fuzzing import Done, Sandbox
from support.json_values import places, put
from support.places import trusted_folder
from support.program import PROGRAM
from support.times import TIMES, report

LONG = settings(
    deadline=None,
    derandomize=TIMES == 1,  # in CI the same each time; a long run looks elsewhere
    database=None,
    suppress_health_check=list(HealthCheck),
)

HOSTILE = [
    "new\nline",
    "\x1b[2J\x1b]0;x\x07",
    os.fsdecode(b"\xff\xfe"),
    "-",
    "--below",
    " ",
    "\u202etxt",
    "x" * 250,
    "a,b:c",
]
NAMES = ["plain", "sub", "sub/deeper", "sub/deeper/file", "link", "loop", "nowhere", "fifo", *HOSTILE]

texts = st.one_of(
    st.sampled_from(HOSTILE),
    st.text(max_size=12),
    st.text("rwxXst-+=,:ugoam01234567 ", max_size=14),
    st.integers(-(10**22), 10**22).map(str),
    st.binary(max_size=8).map(os.fsdecode),
).map(lambda text: text.replace("\0", ""))


def mostly(words: list[str], others: st.SearchStrategy[str] = texts) -> st.SearchStrategy[str]:
    """One of the words, and now and then something else: else few command lines would come as far as to be done."""
    return st.integers(0, 24).flatmap(lambda dice: st.sampled_from(words) if dice else others)


class Place:
    """A folder with a tree of hostile names, accounts and files to give, and what was there at first."""

    def __init__(self, folder: str) -> None:
        self.folder = folder
        self.tree = make(f"{folder}/tree", 0o755, directory=True)
        for name in NAMES:
            path = f"{self.tree}/{name}"
            if name in ("sub", "sub/deeper"):
                make(path, 0o750, directory=True)
            elif name in ("link", "loop", "nowhere"):
                os.symlink({"link": "plain", "loop": "loop"}.get(name, "missing"), path)
            elif name == "fifo":
                os.mkfifo(path, 0o640)
            else:
                make(path, 0o640, text=b"#!/bin/sh\n" if name == "plain" else b"")
        give_list(f"{self.tree}/plain", "u::rw,u:7105:r,g::r,m::r,o::-")
        make(f"{folder}/accounts", 0o755, directory=True)
        self.passwd = "root:x:0:0::/:\nkeeper:x:7101:7201::/:\nauditor:x:7105:7301::/:\n"
        self.group = "root:x:0:\nwatch:x:7201:auditor\nauditors:x:7301:\n"
        self.put_right()
        self.before = states(self.tree)
        self.counts = Counter[int]()

    def put_right(self) -> None:
        Path(f"{self.folder}/accounts/passwd").write_text(self.passwd)
        Path(f"{self.folder}/accounts/group").write_text(self.group)
        Path(f"{self.folder}/snapshot").write_text(Path(SNAPSHOT).read_text())

    def look_at(self, words: list[str], done: Done, *, terminal: bool = False) -> None:
        """What holds of every run."""
        said = (words, done)
        self.counts[done.status] += 1
        assert done.status in (0, 1, 2, 3, 4), said
        assert b"Traceback" not in done.err + done.out, said
        for stream in (done.out, done.err):
            text = stream.decode("utf-8", "strict")
            if terminal:  # a terminal ends lines with a carriage return; colours are the only sequences
                text = re.sub(r"\x1b\[[0-9;]*m", "", text.replace("\r\n", "\n"))
            assert all(char.isprintable() or char == "\n" for char in text), said
        if done.status == 2 and not terminal:
            assert done.err.count(b"\n") >= 1, said
        if not terminal and "--format" in words and done.status != 2:
            self.parses(words, done)
        now = states(self.tree)
        if now != self.before:
            assert words[0] in ("set", "undo"), said
            assert done.status in (0, 3), said
            for path, state in self.before.items():
                if now[path] != state:
                    set_state(path, state)

    def parses(self, words: list[str], done: Done) -> None:
        form = words[words.index("--format") + 1]
        if "--help" in words or "-h" in words:
            return
        if form == "json":
            value = json.loads(done.out)
            assert value["schema"] == "fiat/1", words
            assert (done.status == 3) <= bool(value["problems"]), words
        elif form == "jsonl":
            assert all(isinstance(json.loads(line), dict) for line in done.out.splitlines()), words


@pytest.fixture(scope="module")
def place() -> Iterator[Place]:
    with trusted_folder() as folder:
        yield Place(folder)


@pytest.fixture(scope="module")
def sandbox(place: Place) -> Iterator[Sandbox]:
    with Sandbox(place.folder) as sandbox:
        yield sandbox


# --- command lines -------------------------------------------------------------------------

MODES = mostly(["640", "u=rwX,go=", "+x", "g+s", "7777", "a-w", "u=g", "o+w", "750"])
ASKS = mostly(["keeper", "daemon", "nobody", "uid:7105", "group:watch", "anyone-else", "self", "pid:1", "root"])
WHO = mostly(["7105", "root", "0", "nobody"], st.one_of(texts, ASKS))
ENTRIES = mostly(["user:7105:r", "group:7201:rX", "user:root:rwx", "group:root:-", "mask::r", "other::"])
RIGHTS = mostly([*RIGHT_NAMES, "x"])
COUNTS = mostly(["1", "2", "3"], st.one_of(texts, st.sampled_from(["0", "-1", "99999999999999999999"])))
FLAG = mostly(["immutable", "append-only"])
RULE = mostly(list(RULES))
SHARED: dict[str, st.SearchStrategy[str] | None] = {
    "--accounts": mostly(["accounts"], st.sampled_from(["tree", "missing"])),
    "--format": mostly(["text", "json"], st.sampled_from(["jsonl", "csv", "xml"])),
    "--help": None,
}
CHOICE = {
    "--only": mostly(["files", "dirs"]), "--name": mostly(["*", "p*", "[", "?"]), "--owned-by": WHO, "--in-group": WHO,
    "--with": mostly(["o+w", "list", "setuid", "u+s", "capabilities"]), "--across-mounts": None,
}  # fmt: skip
HISTORY = {
    "--history": mostly(["history"], st.sampled_from(["tree/plain", "missing/h", "/dev/null"])), "--no-history": None,
}  # fmt: skip
OPTIONS: dict[str, dict[str, st.SearchStrategy[str] | None]] = {
    "show": {"--inside": None, "--below": None, "--umask": None, "--pid": COUNTS, **CHOICE},
    "decode": {"--on": MODES, "--umask": None},
    "who": {
        "--can": RIGHTS, "--user": WHO, "--group": WHO, "--pid": COUNTS, "--anyone-else": None, "--because": None,
        "--if-member": mostly(["root:adm", "nobody:root"]), "--if-not-member": mostly(["root:root"]), "--all": None,
        "--below": None, **CHOICE,
    },
    "why": {},
    "set": {
        "--mode": MODES, "--file-mode": MODES, "--dir-mode": MODES, "--owner": WHO, "--group": WHO, "--entry": ENTRIES,
        "--no-entry": mostly(["user:7105", "group:root"]),
        "--mask": mostly(["r", "rx", "-"]),
        "--no-list": None, "--default-entry": ENTRIES, "--default-mask": mostly(["r", "rwx"]),
        "--no-default-list": None, "--like": mostly(["tree/plain", "tree/sub"]), "--below": None,
        "--contents": None, "--link-itself": None, "--preview": None, "--stop": None,
        "--flag": FLAG, "--no-flag": FLAG, "--through-flags": None, "--check": mostly(["skerry", "tree/plain"]),
        "--accept": mostly(list(GUARDS)), **CHOICE, **HISTORY,
    },
    "audit": {
        "--rule": RULE, "--not": RULE, "--weight": mostly(["danger", "odd", "plain"]), "--logs": None, "--rules": None,
        "--accept-known": mostly(["missing", "tree/plain"]), **CHOICE,
    },
    "check": {"--mend": None, "--write": None, "--incomplete": None},
    "history": {"--verify": None, "--last": COUNTS, **HISTORY},
    "undo": {"--preview": None, **HISTORY},
}  # fmt: skip


@st.composite
def lines(draw: st.DrawFn) -> list[str]:
    command = draw(st.one_of(st.sampled_from(sorted(OPTIONS)), st.just("set"), st.just("who")))
    known = {**OPTIONS[command], **SHARED}
    paths = mostly([f"tree/{name}" for name in ("", *NAMES)], texts.map(lambda text: f"tree/{text}"))
    if command != "set":  # where only the sandbox can be written to, too: who is not root has none
        paths = mostly([f"tree/{name}" for name in NAMES] + ["/etc", "/proc/self/root/etc", "/srv/skerry", "tree/sub"])
    starts = {
        "why": st.tuples(ASKS, RIGHTS, paths),
        "check": st.lists(mostly(["skerry"], paths), min_size=1, max_size=2),
        "decode": st.lists(st.one_of(MODES, ENTRIES), min_size=1, max_size=3),
        "history": st.lists(COUNTS, max_size=1),
        "undo": st.lists(COUNTS, max_size=1),
    }
    words = list(draw(starts.get(command, st.lists(paths, min_size=1, max_size=2))))
    for name in draw(st.lists(st.sampled_from(sorted(known)), max_size=4, unique=True)):
        value = known[name]
        words = [*words, name] if value is None else [*words, name, draw(value)]
    if command in ("set", "undo", "history") and not {"--history", "--no-history"} & {*words}:
        words += ["--history", "history"]
    if command in ("show", "who", "set") and CHOICE.keys() & {*words} and draw(st.integers(0, 9)):
        words.append("--below")
    if command == "set" and not {"--mode", "--owner", "--entry"} & {*words}:
        words += ["--mode", draw(MODES)]
    if draw(st.integers(0, 24)) == 0:
        words.insert(draw(st.integers(0, len(words))), draw(texts))
    if command not in ("set", "undo", "history") and draw(st.integers(0, 4)) == 0:
        words += ["--from", "skerry"]
    return [command, *words]


@pytest.mark.slow
def test_any_command_line(place: Place, sandbox: Sandbox) -> None:
    @settings(LONG, max_examples=600 * TIMES)
    @given(lines(), st.booleans())
    def runs(words: list[str], terminal: bool) -> None:
        place.look_at(words, sandbox.run(words, terminal=terminal), terminal=terminal)

    place.counts.clear()
    runs()
    told(place, "command lines")
    assert all(place.counts[status] > 4 for status in range(5)), place.counts


def told(place: Place, what: str) -> None:
    report(what, **{f"ended with {status}": count for status, count in sorted(place.counts.items())})


def test_the_started_program_does_as_the_forked_one(place: Place, sandbox: Sandbox) -> None:
    for words in (["show", "tree", "--below"], ["who", "tree/plain", "--format", "json"], ["set"], ["x"], ["why"] * 9):
        done = subprocess.run([*PROGRAM, *words], cwd=place.folder, capture_output=True)
        forked = sandbox.run(words)
        assert (done.returncode, done.stdout, done.stderr) == (forked.status, forked.out, forked.err)


# --- files ---------------------------------------------------------------------------------


def damaged(whole: bytes) -> st.SearchStrategy[bytes]:
    """Bytes with a few of them changed, taken away, doubled or put in."""
    edit = st.tuples(
        st.integers(0, len(whole) - 1), st.integers(0, 40), st.one_of(st.binary(max_size=6), st.sampled_from(ODD_BYTES))
    )

    def apply(edits: list[tuple[int, int, bytes]]) -> bytes:
        found = whole
        for at, length, new in edits:
            found = found[:at] + new + found[at + length :]
        return found

    return st.lists(edit, min_size=1, max_size=4).map(apply)


def altered(records: list[Any]) -> st.SearchStrategy[bytes]:
    """The lines of JSON with other values in a few places: mostly those that another line has there."""
    bare = [{name: value for name, value in one.items() if name not in ("letters", "special")} for one in records]
    pools: dict[Any, list[Any]] = {}
    for one in bare:
        for place in places(one):
            pools.setdefault(place[-1:], []).append(reduce(lambda value, step: value[step], place, one))
    simple = st.one_of(st.none(), st.booleans(), st.integers(-9, 2**70), st.floats(), texts, st.sampled_from(LIKELY))
    values = st.recursive(simple, lambda inner: st.lists(inner, max_size=2) | st.dictionaries(texts, inner, max_size=2))
    edit = st.tuples(st.integers(0, len(records) - 1), st.integers(0, 200), values, st.integers(0, 999))

    def apply(edits: list[tuple[int, int, Any, int]]) -> bytes:
        found = list(bare)
        for number, at, new, other in edits:
            known = list(places(found[number]))
            place = known[at % len(known)]
            pool = pools.get(place[-1:], [new])
            found[number] = put(found[number], place, pool[other % len(pool)] if place and other % 8 else new)
        return "\n".join(map(json.dumps, found)).encode() + b"\n"

    return st.lists(edit, min_size=1, max_size=4).map(apply)


LIKELY: list[Any] = [
    "0750",
    "rwxr-x---",
    7105,
    "directory",
    "symlink",
    "file",
    ["user::rwx", "group::r-x", "other::---"],
]
LIKELY += ["user:7105:rwx", "/srv/skerry", "keeper", ["immutable"], ["nosuid"], "ro", ["flags"], [13], "script"]

ODD_BYTES = [
    b"\n", b"\0", b"\xff", b"\x1b[2J", b"null", b"-1", b'"', b"{}", b"[[", b":", b",", b"7105", b"9" * 400, b"1e999",
    b"\xed\xa0\x80", b'"uid": "7105"', b"4294967295", b"true", b'"unknown": ["flags"]',
]  # fmt: skip
QUESTIONS = [
    ["show", "/srv/skerry/gauge/raw"], ["who", "/srv/skerry/gauge/raw/0412.csv", "--because"],
    ["who", "/srv/skerry", "--below"], ["why", "keeper", "delete", "/srv/skerry/dropbox/from-surveyor.txt"],
    ["show", "/srv/skerry", "--below", "--format", "csv"],
    ["set", "/srv/skerry", "--below", "--mode", "go=", "--preview"],
]  # fmt: skip


@pytest.mark.slow
def test_any_snapshot(place: Place, sandbox: Sandbox) -> None:
    whole = Path(SNAPSHOT).read_bytes()
    records = [json.loads(line) for line in whole.splitlines()]

    @settings(LONG, max_examples=300 * TIMES)
    @given(st.one_of(damaged(whole), altered(records), altered(records)), st.sampled_from(QUESTIONS))
    def runs(contents: bytes, words: list[str]) -> None:
        Path(f"{place.folder}/snapshot").write_bytes(contents)
        place.look_at(words, sandbox.run([*words, "--from", "snapshot"]))

    place.counts.clear()
    runs()
    told(place, "snapshots")


@pytest.mark.slow
def test_any_accounts(place: Place, sandbox: Sandbox) -> None:
    @settings(LONG, max_examples=100 * TIMES)
    @given(damaged(place.passwd.encode()), damaged(place.group.encode()), st.integers(0, 2))
    def runs(passwd: bytes, group: bytes, which: int) -> None:
        place.put_right()
        if which:
            Path(f"{place.folder}/accounts/passwd").write_bytes(passwd)
        if which != 1:
            Path(f"{place.folder}/accounts/group").write_bytes(group)
        for words in (["who", "tree/plain"], ["set", "tree/plain", "--owner", "keeper", "--preview"]):
            place.look_at(words, sandbox.run([*words, "--accounts", "accounts"]))

    place.counts.clear()
    runs()
    place.put_right()
    told(place, "accounts")


@pytest.mark.slow
def test_any_history(place: Place, sandbox: Sandbox) -> None:
    history = f"{place.folder}/history"
    with suppress(FileNotFoundError):
        os.unlink(history)
    for mode in ("600", "440", "640"):
        done = sandbox.run(["set", "tree/-", "--mode", mode, "--history", "history"])
        assert done.status == 0, done
    for path, state in place.before.items():
        set_state(path, state)
    whole = Path(history).read_bytes()
    statements = st.tuples(
        st.sampled_from(["run", "block", "fate"]),
        st.integers(0, 15),
        st.one_of(
            st.none(), st.integers(-(2**63), 2**63 - 1), st.floats(), texts, st.binary(max_size=9), st.just("[]")
        ),
        st.booleans(),
    )

    @settings(LONG, max_examples=250 * TIMES)
    @given(st.one_of(damaged(whole), st.lists(statements, min_size=1, max_size=3)), st.integers(0, 4))
    def runs(change: bytes | list[tuple[str, int, Any, bool]], which: int) -> None:
        Path(history).write_bytes(change if isinstance(change, bytes) else whole)
        if not isinstance(change, bytes):
            rewritten(history, change)
        words = [["history"], ["history", "2"], ["undo", "2"], ["undo"], ["history", "--verify"]][which]
        place.look_at(words, sandbox.run([*words, "--history", "history", "--format", "json"]))

    place.counts.clear()
    runs()
    told(place, "histories")
    os.unlink(history)


def rewritten(history: str, change: list[tuple[str, int, Any, bool]]) -> None:
    """Rows with other values, with the seals of what was there or with none."""
    with closing(sqlite3.connect(history)) as database:
        for table, column, value, sealed in change:
            names = [row[1] for row in database.execute(f"PRAGMA table_info({table})")]
            with suppress(sqlite3.Error, UnicodeError):  # what no row can hold
                database.execute(f"UPDATE {table} SET {names[column % len(names)]} = ?", (value,))
                if not sealed:
                    database.execute("UPDATE run SET seal = NULL, entries_seal = NULL, fates_seal = NULL")
        database.commit()
