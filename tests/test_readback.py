"""What Fiat reads of its own files: what it wrote comes back, what is wrong is named by its place."""

import json
import os
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import fiat as library
from fiat.core.errors import SnapshotError
from fiat.core.model.accounts import Accounts
from fiat.demo.sample import SNAPSHOT
from fiat.host.snapshot import reader
from support.json_values import places, put
from support.program import PROGRAM, fiat, machine


def lines() -> list[dict[str, Any]]:
    return [json.loads(line) for line in Path(SNAPSHOT).read_text().splitlines()]


def written(folder: str, records: list[dict[str, Any]]) -> str:
    path = f"{folder}/host.jsonl"
    Path(path).write_text("\n".join(map(json.dumps, records)) + "\n")
    return path


@pytest.mark.parametrize(
    ("field", "value", "place"),
    [
        (("owner", "uid"), "seven", "owner.uid"),
        (("owner", "uid"), 2**32, "owner.uid"),
        (("group",), None, "group"),
        (("mode",), "0899", "mode"),
        (("kind",), "heap", "kind"),
        (("acl",), ["user:rwx:"], "acl"),
        (("flags",), ["immortal"], "flags[0]"),
    ],
)
def test_a_wrong_value_is_named_by_its_place(folder: str, field: tuple[str, ...], value: object, place: str) -> None:
    records = lines()
    number, record = next((n, one) for n, one in enumerate(records) if one.get("path") == "/srv/skerry/dropbox")
    inner = record
    for name in field[:-1]:
        inner = inner[name]
    inner[field[-1]] = value
    done = fiat("show", "/srv/skerry", "--from", written(folder, records))
    assert done.returncode == 2
    assert place in done.stderr
    assert f"line {number + 1}" in done.stderr


ODD: list[Any] = [None, True, -1, 1.5, float("inf"), 10**30, "7105", "", "\x1b[2J\0", "\udcff", [], [[]], ["x"], {}]
ODD += [{"uid": "7105"}, {"uid": -1}, [None], 3, "x"]


@pytest.mark.slow
def test_every_field_of_a_snapshot_is_checked(folder: str) -> None:
    """Whatever stands in its place is either refused, in one line that names the place, or can be asked about."""
    records, seen, refused, accepted = lines(), set(), 0, 0
    accounts = library.open_host("skerry").accounts
    for number, record in enumerate(records):
        kinds = sorted(record.keys() - {"path"}) if "path" not in record else ["object"]
        for place in places(record):
            shape = (*kinds, *(step if isinstance(step, str) else "#" for step in place))
            if shape in seen:
                continue
            seen.add(shape)
            for value in ODD:
                changed = [*records[:number], put(record, place, value), *records[number + 1 :]]
                host, said = read(written(folder, changed), accounts)
                if host is None:
                    refused += 1
                    assert said.isprintable()
                    assert f"line {number + 1} of" in said or not place or place[0] in ("path", "end", "kind"), said
                else:
                    accepted += 1
                    library.who(host, "/srv/skerry/gauge/raw")
                    library.who_below(host, "/srv/skerry/dropbox")
    assert refused > 900
    assert accepted > 90  # names, options, what may be null


def read(path: str, accounts: Accounts) -> tuple[library.Host | None, str]:
    try:
        return reader.read(path, accounts), ""
    except SnapshotError as error:
        return None, str(error)


def ended(records: list[Any]) -> list[Any]:
    return [*records[:-1], {"end": len(records) - 1}]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda records: [*records[:30], records[29], *records[30:]], "line 31"),
        (
            lambda records: ended([one for one in records if one.get("path") != "/srv/skerry"]),
            "no line for the directory",
        ),
        (lambda records: [*records[:30], "[" * 100_000, *records[31:]], "line 31"),
        (lambda records: [*records[:30], {"path": "x" * 9_000_000}, *records[31:]], "more than 8,388,608 bytes"),
        (
            lambda records: [*records[:24], {**records[24], "letters": "rwxrwxrwx"}, *records[25:]],
            "letters does not go",
        ),
        (lambda records: [{**records[0], "host": 7}, *records[1:]], "line 1"),
        (lambda records: [*records[:-1], {"end": "\x1b[2J"}], "end is the text"),
    ],
)
def test_a_snapshot_that_does_not_hang_together_is_refused(
    folder: str, change: Callable[[list[Any]], list[Any]], says: str
) -> None:
    done = fiat("who", "/srv/skerry", "--from", written(folder, change(lines())))
    assert (done.returncode, says in done.stderr, done.stderr.count("\n")) == (2, True, 1), done.stderr[:500]


def test_what_is_no_file_is_not_waited_for(folder: str) -> None:
    os.mkfifo(f"{folder}/pipe")
    for place, says in (
        ("/dev/zero", "neither a regular file nor a pipe"),
        (folder, "no snapshots of hosts in"),
        (f"{folder}/pipe", "cut short"),
        (f"{folder}/missing", "No such file"),
        ("/proc/self/mem", "cannot read the snapshot"),
    ):
        done = fiat("who", "/", "--from", place)
        assert (done.returncode, says in done.stderr, done.stderr.count("\n")) == (2, True, 1), done
    piped = [*PROGRAM, "who", "/srv/skerry", "--from", "/dev/stdin"]
    with open(SNAPSHOT) as file, subprocess.Popen(["cat"], stdin=file, stdout=subprocess.PIPE) as cat:
        assert subprocess.run(piped, stdin=cat.stdout, capture_output=True).returncode == 0


def test_what_could_not_be_read_is_still_unknown(folder: str) -> None:
    """In a snapshot that was written where something could not be read, and in the answers from it."""
    records = lines()
    record = next(one for one in records if one.get("path") == "/srv/skerry/dropbox")
    record |= {"unknown": ["access list", "flags"], "unknown_errno": [13, 5], "flags": None}
    path = written(folder, records)
    found = reader.read(path).objects["/srv/skerry/dropbox"]
    assert (found.unknown, found.posture.flags) == ((("access list", 13), ("flags", 5)), None)
    told = machine("who", "/srv/skerry/dropbox", "--from", path)
    assert sum(caveat["code"] == "unknown" for caveat in told["caveats"]) == 2


def test_of_several_ends_the_weightier_is_the_status(folder: str) -> None:
    """A guard before a path that is not there, that before a no."""
    path = f"{folder}/file"
    os.close(os.open(path, os.O_CREAT, 0o600))
    assert fiat("set", path, f"{folder}/gone", "--mode", "o+w").returncode == 4
    assert fiat("set", path, f"{folder}/gone", "--mode", "o+r").returncode == 3
    assert fiat("set", f"{folder}/gone", "--mode", "o+r").returncode == 2
    assert fiat("why", "anyone-else", "write", path).returncode == 1


def test_the_traceback_is_shown_where_it_is_asked_for(folder: str) -> None:
    words = [*PROGRAM, "set", folder, "--mode", "o=q"]
    plain, debugged = (
        subprocess.run(words, capture_output=True, text=True, env={**os.environ, **more})
        for more in ({}, {"FIAT_DEBUG": "1"})
    )
    assert plain.returncode == debugged.returncode == 2
    assert "Traceback" not in plain.stderr
    assert "Traceback" in debugged.stderr
    assert debugged.stderr.endswith(plain.stderr)


def test_a_bounded_survey_says_that_it_is() -> None:
    host = library.open_host("skerry")
    whole, part = library.survey(host, "/srv/skerry"), library.survey(host, "/srv/skerry", most=12)
    assert (len(whole), whole.complete, whole.bounded) == (39, True, False)
    assert 12 <= len(part) < 39
    assert (part.complete, part.bounded) == (False, True)
