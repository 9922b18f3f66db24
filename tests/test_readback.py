"""What Fiat reads of its own files: what it wrote comes back, what is wrong is named by its place."""

import json
import os
import sqlite3
import subprocess
from pathlib import Path
from typing import Any

import pytest

import fiat as library
from fiat.demo.sample import SNAPSHOT
from fiat.host.snapshot import reader
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


def test_a_history_of_the_first_version_is_put_back(folder: str) -> None:
    """It knew neither file systems nor flags nor seals."""
    path, place = f"{folder}/file", f"{folder}/history"
    os.close(os.open(path, os.O_CREAT, 0o600))
    os.chmod(path, 0o640)
    assert fiat("set", path, "--mode", "o+r", "--history", place).returncode == 0
    database = sqlite3.connect(place)
    database.execute("ALTER TABLE entry ADD COLUMN device INTEGER NOT NULL DEFAULT 0")
    lacking = {"entry": ("filesystem", "found"), "run": ("entries_seal", "fates_seal", "seal")}
    for table, columns in lacking.items():
        for column in columns:
            database.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
    database.execute("UPDATE posture SET fields = json_remove(fields, '$.flags')")
    database.execute("PRAGMA user_version = 1")
    database.commit()
    database.close()
    (run,) = machine("history", "--history", place)["results"]
    assert (run["state"], run["paths"]) == ("done", 1)
    assert machine("history", "1", "--history", place)["results"]
    assert fiat("undo", "--history", place).returncode == 0
    assert os.stat(path).st_mode & 0o777 == 0o640
    database = sqlite3.connect(place)
    assert database.execute("PRAGMA user_version").fetchone() == (2,)
    database.execute("PRAGMA user_version = 3")
    database.commit()
    database.close()
    done = fiat("history", "--history", place)
    assert done.returncode == 3
    assert "newer Fiat" in done.stderr


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
