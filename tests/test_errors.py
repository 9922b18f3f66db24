"""Bad input and hostile surroundings: one clear line, the right exit status, never a traceback."""

import json
import os
import shlex
import subprocess
from pathlib import Path

import pytest

import fiat.demo.sample
from support.program import PROGRAM, machine, sample
from support.program import fiat as program

NAMES = (
    b"new\nline",
    b"esc\x1b[31mape",
    b"not\xffutf8",
    b"tab\tand\x07bell",
    "zero\u200bwidth \u202eright".encode(),
    b"\\n",
)


@pytest.fixture
def folder(folder: str) -> Path:
    return Path(folder)


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
        (("set", "/", "--mode", "", "--preview"), 2, "mode '' has an empty clause"),
        (("set", "/", "--entry", "user:nobod:r", "--preview"), 2, "near is 'nobody'"),
        (("set", "/", "--entry", "mask:x:r", "--preview"), 2, "a mask entry names nobody"),
        (("set", "/", "--no-entry", "other:", "--preview"), 2, "one entry for the other"),
        (("set", "/", "--mode", "750"), 2, "--preview"),
        (("set", "/"), 2, "--mode"),
        (("let", "keeper", "change-mode", "/srv/skerry/keys", "--and-new"), 2, "change-mode"),
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
    done = program("shwo", "/")
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
        assert program(*words).stdout  # printable throughout: the runner checks it
    assert "No such file" in program("show", word + "x").stderr


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
    whole = Path(fiat.demo.sample.SNAPSHOT).read_text().splitlines(keepends=True)
    broken = folder / "broken.jsonl"
    broken.write_text("".join(whole[lines]))
    done = fiat_from(broken)
    assert says in done.stderr
    broken.write_text("".join(whole)[:-200])
    assert "damaged or cut short" in fiat_from(broken).stderr
    broken.write_text("".join(whole).replace('"mode": "0755"', '"mode": "0955"', 1))
    assert "'0955'" in fiat_from(broken).stderr


def test_a_hostile_snapshot_prints_harmlessly(folder: Path) -> None:
    """Every text in a snapshot that somebody else may have chosen, with control characters in it."""
    evil = "\x1b[31m\n\x07\u202e"
    lines = []
    for line in Path(fiat.demo.sample.SNAPSHOT).read_text().splitlines():
        fields = json.loads(line)
        if "user" in fields or ("group" in fields and "path" not in fields):
            account = fields.get("user") or fields["group"]
            account["name"] += evil
            account["members"] = [name + evil for name in account["members"]] if "members" in account else None
            if account["members"] is None:
                del account["members"]
        elif "mount" in fields:
            fields["mount"]["type"] = "fuse." + evil
            fields["mount"]["filesystem_options"].append("user_id=" + evil)
        elif "path" in fields:
            fields["target"] = fields.get("target", "") and fields["target"] + evil
            fields["label"] = evil
            fields["script"] = fields.get("script") and fields["script"] + evil
        else:
            fields["host"] = evil if "host" in fields else None
        lines.append(json.dumps(fields))
    lines[-1] = json.dumps({"end": len(lines) - 1})
    snapshot = folder / "evil.jsonl"
    snapshot.write_text("\n".join(lines) + "\n")
    tree = "/srv/skerry"
    for words in (
        ("show", f"{tree}/gauge/latest", f"{tree}/tools/reduce", f"{tree}/charts/draft/approach.chart"),
        ("show", "/", "--below", "--across-mounts"),
        ("show", "/", "--below", "--across-mounts", "--format", "csv"),
        ("who", f"{tree}/tools/reduce", f"{tree}/charts/draft", "--because"),
        ("who", f"{tree}/charts/draft", "--format", "csv"),
        ("who", tree, "--below"),
        ("why", "uid:7103", "execute", f"{tree}/tools/reduce"),
        ("why", "nobody-here", "read", "/"),
        ("why", "pid:1", "read", "/"),
        ("set", f"{tree}/observatory", "--mode", "o+x", "--preview"),
    ):
        done = program(*words, "--from", str(snapshot))  # printable throughout: the runner checks it
        assert done.stdout or done.stderr


def fiat_from(snapshot: Path) -> subprocess.CompletedProcess[str]:
    done = program("show", "/", "--from", str(snapshot))
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
        assert running.stderr.read() == b"fiat show: the output was cut short: its reader has gone\n"
        assert running.wait() == 0
    with open("/dev/full", "w") as full:
        done = subprocess.run([*PROGRAM, "show", "/"], stdout=full, stderr=subprocess.PIPE, text=True)
    assert done.returncode == 3
    assert done.stderr == "fiat show: the output was cut short: No space left on device\n"


@pytest.mark.parametrize("closed", [">&-", "2>&-", ">&- 2>&-"])
def test_closed_streams(closed: str) -> None:
    command = f"{shlex.join(PROGRAM)} show / /nowhere {closed}"
    done = subprocess.run(["/bin/sh", "-c", command], capture_output=True, text=True, check=False)
    assert done.returncode == 3
    assert "Traceback" not in done.stderr


def test_nobody_reads_what_the_version_is() -> None:
    done = subprocess.run(
        ["/bin/sh", "-c", f"{{ sleep 0.2; {shlex.join(PROGRAM)} --version; echo $? >&2; }} | :"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.stderr == "3\n"


@pytest.mark.parametrize(
    ("line", "says"),
    [
        ("who /srv --only dirs", "--only goes with --below"),
        ("who /srv --with o+w", "--with goes with --below"),
        ("who /srv --across-mounts", "--across-mounts goes with --below"),
        ("who /srv --below --because", "--because does not go with --below"),
        ("show /srv --in-group watch", "--in-group goes with --inside or --below"),
        ("show /srv --inside --across-mounts", "--across-mounts goes with --below"),
        ("show --pid 1 /srv", "--pid goes with --umask"),
        ("set /srv --mode 755 --preview --across-mounts", "--across-mounts goes with --below or --contents"),
        ("set /srv --mode 755 --preview --no-history --history x", "--history does not go with --no-history"),
        ("history", "a snapshot was never changed, so it has no history"),
        ("decode 755 --on 644", "--on goes with clauses, such as g-w,o=, and '755' is none"),
        ("decode g-w --on user:keeper:r", "'user:keeper:r' is no mode to apply clauses to"),
        ("decode 022 --umask --on 755", "--on does not go with --umask"),
    ],
)
def test_options_that_mean_nothing_together_are_refused(line: str, says: str) -> None:
    done = sample(*line.split())
    assert (done.returncode, says in done.stderr, done.stdout) == (2, True, "")


@pytest.mark.parametrize(
    "line",
    [
        "why uid:{} read /",
        "why pid:{} read /",
        "who / --user {}",
        "who / --pid {}",
        "set / --owner {} --preview",
        "set / --entry user:{}:r --preview",
        "set / --mode {} --preview",
        "history --last {}",
        "undo {}",
    ],
)
def test_a_number_of_any_length_is_one_short_line(line: str) -> None:
    done = program(*line.format("9" * 5000).split())
    assert (done.returncode, done.stderr.count("\n"), len(done.stderr) < 400) == (2, 1, True), done.stderr[:500]


@pytest.mark.parametrize(
    ("name", "line"),
    [
        ("passwd", "x:x:" + "9" * 5000 + ":1::/:"),
        ("passwd", "x:x:4294967295:1::/:"),
        ("passwd", "x:x:1"),
        ("passwd", ":x:1:1::/:"),
        ("group", "x:x:" + "9" * 5000 + ":"),
        ("group", "x:x:4294967295:"),
    ],
)
def test_accounts_files_are_checked(folder: str, name: str, line: str) -> None:
    for one in ("passwd", "group"):
        Path(f"{folder}/{one}").write_text("")
    Path(f"{folder}/{name}").write_text(f"# a comment\n{line}\n")
    done = program("who", "/", "--accounts", folder)
    assert (done.returncode, f"line 2 of '{folder}/{name}' is no" in done.stderr) == (2, True), done.stderr


def test_accounts_that_are_no_files_do_not_hang(folder: str) -> None:
    Path(f"{folder}/group").write_text("")
    os.mkfifo(f"{folder}/passwd")
    done = program("who", "/", "--accounts", folder)
    assert (done.returncode, "it is no regular file" in done.stderr) == (2, True)


def test_json_problems_carry_the_errno() -> None:
    value = json.loads(sample("show", "/nowhere", "/", "--format", "json").stdout)
    assert value["problems"] == [{"path": "/nowhere", "errno": "ENOENT", "message": "No such file or directory"}]
    assert len(value["results"]) == 1
