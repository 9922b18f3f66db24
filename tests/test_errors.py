"""Bad input and hostile surroundings: one clear line, the right exit status, never a traceback."""

import json
import os
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from program import PROGRAM, fiat, machine, sample

NAMES = (
    b"new\nline",
    b"esc\x1b[31mape",
    b"not\xffutf8",
    b"tab\tand\x07bell",
    "zero\u200bwidth \u202eright".encode(),
    b"\\n",
)


@pytest.fixture
def folder() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as path:
        os.chmod(path, 0o755)
        yield Path(path)


@pytest.mark.parametrize(
    ("words", "status", "names"),
    [
        (("show", "/srv/skerry/nowhere"), 2, "'/srv/skerry/nowhere': No such file"),
        (("show", "/srv/nowhere/x"), 2, "there is no /srv/nowhere"),
        (("show", "/srv/skerry/log/chartpress.log/x"), 2, "is no directory"),
        (("show", ""), 2, "''"),
        (("show", "/", "/nowhere"), 3, "/nowhere"),
        (("show", "\x1b[31m/evil"), 2, r"\x1b[31m"),
        (("who", "/nowhere"), 2, "/nowhere"),
        (("why", "keepr", "read", "/"), 2, "'keepr' in the accounts of skerry; near is 'keeper'"),
        (("why", "7101", "read", "/"), 2, "uid:7101"),
        (("why", "group:wach", "read", "/"), 2, "near is 'watch'"),
        (("why", "pid:1", "read", "/"), 2, "no process runs in it"),
        (("why", "uid:x", "read", "/"), 2, "'x'"),
        (("why", "keeper", "fly", "/"), 2, "'fly' is no right; these are: read, write"),
        (("set", "/", "--mode", "9", "--preview"), 2, "'9' has a digit over 7"),
        (("set", "/", "--mode", "u+z", "--preview"), 2, "'z' is no permission"),
        (("set", "/", "--mode", "750"), 2, "--preview"),
        (("set", "/"), 2, "--mode"),
        (("show",), 2, "PATH"),
        (("show", "/", "--format", "yaml"), 2, "yaml"),
        (("show", "/", "--accounts", "/nowhere"), 2, "/nowhere/passwd"),
    ],
)
def test_bad_words(words: tuple[str, ...], status: int, names: str) -> None:
    done = sample(*words)
    assert done.returncode == status
    assert done.stderr.count("\n") == 1
    assert done.stderr.startswith(f"fiat {words[0]}: ")
    assert names in done.stderr


def test_bad_command() -> None:
    done = fiat("shwo", "/")
    assert done.returncode == 2
    assert done.stderr == "fiat: no command is called 'shwo'; near is 'show'; fiat --help lists them\n"


@pytest.mark.parametrize("name", NAMES)
def test_names_print_harmlessly_and_survive_in_json(folder: Path, name: bytes) -> None:
    path = os.path.join(os.fsencode(folder), name)
    os.close(os.open(path, os.O_CREAT, 0o644))
    word = os.fsdecode(path)
    (shown,) = machine("show", word)["results"]
    assert os.fsencode(shown["path"]) == path
    for words in (("show", word), ("who", word), ("why", "root", "execute", word), ("set", word, "--mode", "600")):
        assert fiat(*words).stdout  # printable throughout: the runner checks it
    assert "No such file" in fiat("show", word + "x").stderr


@pytest.mark.parametrize(
    ("lines", "says"),
    [
        (slice(0, -1), "cut short after line"),
        (slice(0, 30), "cut short after line 30"),
        (slice(1, None), "first line"),
        (slice(0, 0), "cut short after line 0"),
    ],
)
def test_a_damaged_snapshot_is_refused(folder: Path, lines: slice, says: str) -> None:
    import fiat.demo.sample

    whole = Path(fiat.demo.sample.SNAPSHOT).read_text().splitlines(keepends=True)
    broken = folder / "broken.jsonl"
    broken.write_text("".join(whole[lines]))
    done = fiat_from(broken)
    assert says in done.stderr
    broken.write_text("".join(whole)[:-200])
    assert "damaged or cut short" in fiat_from(broken).stderr
    broken.write_text("".join(whole).replace('"mode": "0755"', '"mode": "0955"', 1))
    assert "'0955'" in fiat_from(broken).stderr


def fiat_from(snapshot: Path) -> subprocess.CompletedProcess[str]:
    done = fiat("show", "/", "--from", str(snapshot))
    assert done.returncode == 2
    assert done.stderr.count("\n") == 1
    return done


def test_a_reader_that_goes_away_and_a_full_disk() -> None:
    many = ["/"] * 4000
    with subprocess.Popen([*PROGRAM, "show", *many], stdout=subprocess.PIPE, stderr=subprocess.PIPE) as running:
        assert running.stdout is not None
        assert running.stderr is not None
        running.stdout.readline()
        running.stdout.close()
        assert running.stderr.read() == b""
        assert running.wait() == 0
    with open("/dev/full", "w") as full:
        done = subprocess.run([*PROGRAM, "show", "/"], stdout=full, stderr=subprocess.PIPE, text=True)
    assert done.returncode == 3
    assert done.stderr == "fiat: cannot go on: No space left on device\n"


def test_json_problems_carry_the_errno() -> None:
    value = json.loads(sample("show", "/nowhere", "/", "--format", "json").stdout)
    assert value["problems"] == [{"path": "/nowhere", "errno": "ENOENT", "message": "No such file or directory"}]
    assert len(value["results"]) == 1
