"""``fiat show`` of directories and trees, and the formats against each other."""

import csv
import io
import os
import subprocess

import pytest

from fiat.core.model.principals import Principal
from support.filesystems import ROOT
from support.program import PROGRAM, fiat, fiat_as, machine, sample

S = "/srv/skerry"
SAMPLE = ("--from", "skerry")


def names(*options: str) -> list[str]:
    found = machine("show", S, "--below", *options, *SAMPLE)["results"]
    return [os.path.relpath(result["path"], S) for result in found]


@pytest.mark.parametrize(
    ("options", "expected"),
    [
        (("--with", "o+w"), ["dropbox", "tools/calibration.ini"]),
        (("--with", "o+w", "--only", "dirs"), ["dropbox"]),
        (("--with", "setuid"), ["tools/resync", "tools/ring-bell"]),
        (("--with", "u+s,o+x"), ["tools/ring-bell"]),
        (("--with", "4001"), ["tools/ring-bell"]),
        (("--with", "default-list"), ["charts/draft", "gauge/raw"]),
        (
            ("--with", "list", "--name", "*.csv"),
            ["gauge/raw/0411.csv", "gauge/raw/0412.csv", "series/reduced-2026.csv"],
        ),
        (("--with", "immutable"), ["logbook/1912.txt"]),
        (("--with", "capabilities"), ["tools/tide-listen"]),
        (("--with", "no-owner"), ["series/reduced-1998.csv"]),
        (("--owned-by", "chartpress", "--only", "files"), ["charts/print/approach-7.pdf"]),
        (("--in-group", "7203"), ["dropbox"]),
        (("--name", "*.key"), ["keys/gate.key", "keys/lamp.key"]),
    ],
)
def test_selection(options: tuple[str, ...], expected: list[str]) -> None:
    assert names(*options) == expected


def named_in(line: str) -> str:
    """The name in a row of a listing."""
    return line.rpartition("  ")[2].strip().split(" ")[0].rstrip("/")


def test_text_json_and_csv_agree() -> None:
    results = machine("show", "/", "--below", "--across-mounts", *SAMPLE)["results"]
    text = sample("show", "/", "--below", "--across-mounts").stdout
    rows = list(
        csv.DictReader(io.StringIO(sample("show", "/", "--below", "--across-mounts", "--format", "csv").stdout))
    )
    assert len(results) == len(rows) >= 50
    for result, row in zip(results, rows, strict=True):
        mode = result["mode"]
        assert (row["path"], row["mode"], row["uid"]) == (result["path"], mode, str(result["owner"]["uid"]))
        assert row["acl"] == " ".join(result["acl"] or [])
        assert row["remarks"].split() == [remark["code"] for remark in result["remarks"]]
        (line,) = [line for line in text.splitlines() if named_in(line) == result["path"][1:]]
        assert line.split()[:2] == [result["mode"], result["letters"]]
        sheet = sample("show", result["path"]).stdout if "vault" in result["path"] else ""
        assert all(remark["text"] in sheet for remark in result["remarks"] if sheet)
    who = list(csv.DictReader(io.StringIO(sample("who", f"{S}/observatory", "--format", "csv").stdout)))
    (answer,) = machine("who", f"{S}/observatory", *SAMPLE)["results"]
    users = [row for row in who if row["who"] == "user"]
    assert [row["traverse"] == "yes" for row in users] == [user["traverse"] for user in answer["users"]]
    assert {row["execute"] for row in who} == {""}


def test_other_file_systems_are_left_out_and_it_is_said() -> None:
    done = sample("show", "/mnt", "--below")
    assert "vault/\n" in done.stdout
    assert "1998.tar" not in done.stdout
    assert "other file systems are mounted at /mnt/vault; --across-mounts enters them" in done.stdout
    assert "1998.tar" in sample("show", "/mnt", "--below", "--across-mounts").stdout


def test_names_sort_as_people_expect(folder: str) -> None:
    for name in ("n10", "N2", "b", "A", "n2", "n1"):
        os.close(os.open(f"{folder}/{name}", os.O_CREAT))
    found = machine("show", folder, "--inside")["results"]
    assert [os.path.basename(result["path"]) for result in found] == ["A", "b", "n1", "N2", "n2", "n10"]


def test_a_symlink_and_its_target_are_shown_apart(folder: str) -> None:
    os.symlink("nowhere", f"{folder}/dangling")
    os.symlink("loop", f"{folder}/loop")
    text = sample("show", f"{S}/gauge/latest").stdout
    assert text.index("leads to") < text.index("and what it leads to:") < text.index(f"{S}/gauge/raw/0412.csv")
    (result,) = machine("show", f"{S}/gauge/latest", *SAMPLE)["results"]
    assert (result["kind"], result["leads_to"]["path"]) == ("symlink", f"{S}/gauge/raw/0412.csv")
    assert f"leads nowhere: there is no {folder}/nowhere" in fiat("show", f"{folder}/dangling").stdout
    assert "Too many levels of symbolic links" in fiat("show", f"{folder}/loop").stdout


@pytest.mark.slow
def test_a_large_directory_is_shown_as_it_comes(folder: str) -> None:
    for number in range(50_000):
        os.close(os.open(f"{folder}/{number}", os.O_CREAT))
    with subprocess.Popen(
        [*PROGRAM, "show", "--inside", folder], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    ) as running:
        assert running.stdout is not None
        lines = [running.stdout.readline() for _ in range(3)]
        assert lines[2].split()[-1] == "0"
        assert running.poll() is None  # it goes on while its first rows are already here
        out, err = running.communicate()
    assert (running.returncode, err) == (0, "")
    assert out.splitlines()[-1] == "  50,000 files"


@pytest.mark.slow
def test_a_tree_deeper_than_any_path_can_be_long(folder: str) -> None:
    depth = 3000
    here = os.open(folder, os.O_RDONLY)
    for _ in range(depth):
        os.mkdir("deep", dir_fd=here)
        below = os.open("deep", os.O_RDONLY, dir_fd=here)
        os.close(here)
        here = below
    try:
        done = fiat("show", "--below", folder)
        assert (done.returncode, done.stderr) == (0, "")
        assert done.stdout.splitlines()[-1] == f"  {depth:,} directories"
        deepest = done.stdout.splitlines()[-2].split()[-1]
        assert "0755" in fiat("show", f"{folder}/{deepest}").stdout
        assert "read" in fiat("who", "--below", folder, "--can", "read").stdout
    finally:
        for _ in range(depth):
            above = os.open("..", os.O_RDONLY, dir_fd=here)
            os.close(here)
            os.rmdir("deep", dir_fd=above)
            here = above
        os.close(here)


def test_what_may_not_be_read_is_said_and_the_rest_shown(folder: str) -> None:
    if not ROOT:
        pytest.skip("becomes somebody else")
    fd = os.open(f"{folder}/shut", os.O_CREAT | os.O_WRONLY, 0o711)
    os.write(fd, b"#!/bin/sh\n")
    os.close(fd)
    nobody = Principal("user", "nobody", 65534, frozenset((65534,)))
    status, text, _ = fiat_as(nobody, "show", f"{folder}/shut")
    assert status == 0
    assert "0711  rwx--x--x" in text
    assert "its first bytes could not be read (Permission denied), so it is taken for a program" in text
    os.mkdir(f"{folder}/closed", 0o711)
    status, text, errors = fiat_as(nobody, "show", "--below", folder)
    assert status == 3
    assert "closed/" in text
    assert f"'{folder}/closed': Permission denied" in errors


def test_a_file_system_without_lists_says_so() -> None:
    (result,) = machine("show", "/proc/version")["results"]
    assert result["keeps_lists"] is False
    assert "no-lists" in [remark["code"] for remark in result["remarks"]]
    assert "this file system keeps no access lists" in fiat("show", "/proc/version").stdout


def test_umask_of_this_process_and_of_others() -> None:
    old = os.umask(0o027)
    try:
        (mine,) = machine("show", "--umask")["results"]
        value = machine("show", "--umask", "--pid", str(os.getpid()))
    finally:
        os.umask(old)
    expected = {"umask": "0027", "clauses": "u=rwx,g=rx,o=", "files": "0640", "directories": "0750"}
    assert mine == {"process": None, **expected}
    assert value["results"] == [{"process": os.getpid(), **expected}]
    assert "no process has the number 4194305" in fiat("show", "--umask", "--pid", "4194305").stderr
    assert fiat("show", "--umask", "/tmp").returncode == 2


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("show", "/srv/skerry/keys/lamp.key", "--inside"), "Not a directory"),
        (("show", "/srv", "--below", "--with", "o-w"), "write them with +"),
        (("show", "/srv", "--below", "--with", "lsit"), "'lsit'"),
        (("show", "/srv", "--below", "--owned-by", "keper"), "near is 'keeper'"),
        (("show", "/srv", "--only", "dirs"), "--only goes with --inside or --below"),
        (("show", "/srv", "--below", "--inside"), "does not go with"),
        (("show",), "Give one PATH or more"),
    ],
)
def test_bad_words(words: tuple[str, ...], says: str) -> None:
    done = sample(*words)
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stderr.count("\n") == 1
