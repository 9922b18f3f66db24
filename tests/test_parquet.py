"""Parquet has what CSV has, as the usual libraries for data frames read it."""

import csv
import io
import json
import os
import shlex
import subprocess
import sys
from pathlib import Path
from typing import Any

import pandas
import pyarrow.parquet
import pytest

from support.fleets import sample_lines, write
from support.places import trusted_folder
from support.program import PROGRAM, fiat

ODD = ["plain", "with, comma", 'quoted"name', "line\nbreak", os.fsdecode(b"not \xff utf-8"), "=sum", "end "]


def table(*words: str) -> Any:
    """What the program writes, read from a file."""
    with trusted_folder() as folder:
        path = f"{folder}/found.parquet"
        with open(path, "wb") as file:
            done = subprocess.run([*PROGRAM, *words, "--format", "parquet"], stdout=file, stderr=subprocess.PIPE)
        assert done.returncode in (0, 1), done.stderr
        return pandas.read_parquet(path), pyarrow.parquet.read_schema(path)


def rows_of(frame: Any, names: list[str]) -> list[list[str]]:
    """The rows as CSV writes them."""

    def cell(name: str, value: Any) -> str:
        if value is None or value is pandas.NaT or (isinstance(value, float) and value != value):
            return ""
        if isinstance(value, pandas.Timestamp):
            return str(value.strftime("%Y-%m-%dT%H:%M:%SZ"))
        if isinstance(value, bool):
            return "yes" if value else "no"
        return str(int(value)) if isinstance(value, float) else str(value)

    found = frame.astype(object).to_dict("records")
    return [[cell(name, row[name]) for name in names] for row in found]


@pytest.fixture
def odd(folder: str) -> str:
    """A tree with names of all kinds."""
    for name in ODD:
        os.makedirs(f"{folder}/{name}d")
        for number in range(3):
            with open(f"{folder}/{name}d/{number}", "w", encoding="utf-8") as file:
                file.write("x" * number)
            os.chmod(file.name, 0o600 + number)
    os.symlink("plaind", f"{folder}/link")
    return folder


@pytest.mark.parametrize("words", [("who",), ("show",), ("who", "--can", "read,delete"), ("show", "--only", "dirs")])
@pytest.mark.parametrize("where", ["odd", "sample", "fleet"])
def test_it_has_what_csv_has(words: tuple[str, ...], where: str, request: pytest.FixtureRequest, folder: str) -> None:
    if where == "odd":
        asked: tuple[str, ...] = (*words, request.getfixturevalue("odd"), "--below")
    else:
        write(sample_lines(), folder, "cliff")
        write(sample_lines(), folder, "crag")
        asked = (*words, "/srv/skerry", "--below", "--from", folder if where == "fleet" else "skerry")
    header, *rows = csv.reader(io.StringIO(fiat(*asked, "--format", "csv").stdout))
    frame, schema = table(*asked)
    assert {*frame.columns} == {*header, "path_bytes"}
    plain = [[cell.removeprefix("'") for cell in row] for row in rows]  # which keeps spreadsheets from computing
    assert rows_of(frame, header) == plain
    encoded = [field.name for field in schema if pyarrow.types.is_dictionary(field.type)]
    assert "kind" in encoded
    assert len(encoded) >= 3


def test_paths_are_there_to_the_byte(odd: str) -> None:
    frame, _ = table("show", odd, "--below")
    paths = {
        (row["path"].encode() if row["path_bytes"] is None else row["path_bytes"]) for row in frame.to_dict("records")
    }
    found = {
        os.fsencode(os.path.join(top, name)) for top, folders, files in os.walk(odd) for name in (*folders, *files)
    }
    assert paths == found


def test_an_audit_and_nothing_at_all(folder: str) -> None:
    header, *rows = csv.reader(io.StringIO(fiat("audit", "/srv/skerry", "--from", "skerry", "--format", "csv").stdout))
    frame, _ = table("audit", "/srv/skerry", "--from", "skerry")
    assert rows_of(frame, header) == rows
    frame, _ = table("show", folder, "--below", "--name", "nothing is called so")
    assert len(frame) == 0
    assert "modified" in frame.columns


@pytest.mark.parametrize(
    ("words", "word"), [(("who", "/etc"), "--below"), (("show", "/etc", "--inside"), "--below")], ids=["who", "show"]
)
def test_it_is_a_list_of_paths(words: tuple[str, ...], word: str) -> None:
    done = fiat(*words, "--format", "parquet")
    assert (done.returncode, done.stdout) == (2, "")
    assert word in done.stderr


def test_the_example_of_the_documentation_runs(folder: str) -> None:
    for host in ("cliff", "crag"):
        write(sample_lines(), f"{folder}/fleet", host)
    text = (Path(__file__).parent.parent / "docs/fleet.md").read_text(encoding="utf-8")
    line = next(one for one in text.splitlines() if "> writers.parquet" in one).replace("/srv/fleet", f"{folder}/fleet")
    program = " ".join(map(shlex.quote, PROGRAM))
    subprocess.run(line.replace("fiat", program, 1), shell=True, check=True, cwd=folder)
    code = text.partition("```python\n")[2].partition("```")[0]
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, cwd=folder)
    rows = json.loads(fiat("who", "/srv/skerry", "--below", "--can", "write", "--json", "--from", "skerry").stdout)
    open_to_all = sum(
        one["directories"] + one["others"]
        for one in rows["results"]
        if (one["rights"]["write"] or {}).get("anyone_else")
    )
    for team in ("harbour", "lights"):
        assert f"{team} {open_to_all}" in " ".join(done.stdout.split())
