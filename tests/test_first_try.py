"""What people type first, and the first line that they read: each works, or names the right word.

The sample host answers; what is changed for real is changed in a folder of its own.
"""

import csv
import io
import json
import os
import re
import shlex

import pytest

from fiat.cli.registry import names
from fiat.core.model.principals import Principal
from support.files import give_list, make, mode_of
from support.program import fiat, fiat_as, machine

RAW = "/srv/skerry/gauge/raw/0412.csv"
KEYS = "/srv/skerry/keys"
PREVIEW = "Preview: 1 path would change. Nothing is written."

TYPED = (
    # a mode without its option, and in every notation
    ("set /srv/skerry/logbook 750 --preview", PREVIEW, 0),
    ("set 750 /srv/skerry/logbook --preview", PREVIEW, 0),
    ("set /srv/skerry/logbook rwxr-x--- --preview", PREVIEW, 0),
    ("set /srv/skerry/logbook --mode drwxr-x--- --preview", PREVIEW, 0),
    ("set /srv/skerry/logbook/today.txt -rw-r----- --preview", PREVIEW, 0),
    ("set /srv/skerry/logbook/today.txt --mode -rw-r----- --preview", PREVIEW, 0),
    ("set /srv/skerry/logbook o-rx --preview", PREVIEW, 0),
    ("set /srv/skerry/logbook --mode 0o750 --preview", PREVIEW, 0),
    (
        "set /srv/skerry/logbook --mode lrwxr-x--- --preview",
        "fiat set: mode 'lrwxr-x---' is that of a symlink; write its other nine letters alone",
        2,
    ),
    (
        "set 750 /srv/skerry/logbook --owner keeper --preview",
        "fiat set: there is no file '750'; as a mode write --mode 750",
        2,
    ),
    (
        "set 750 --preview",
        "fiat set: what shall be set? --mode, --owner, --entry, --flag and others say it; see --help",
        2,
    ),
    (
        "set /srv/skerry/logbook --file-mode 640 --preview",
        "Nothing here is meant: no path is what the options choose.",
        0,
    ),
    # an empty word is most often a variable of a script that was never set
    ("show / --accounts ''", "fiat show: --accounts names no folder: the word after it is empty", 2),
    # owner and group in one word
    (f"set {KEYS}/gate.key --owner surveyor:survey --preview", PREVIEW, 0),
    (f"set {KEYS}/gate.key --owner :survey --preview", PREVIEW, 0),
    (
        f"set {KEYS} --owner keeper: --preview",
        "fiat set: a group is missing after 'keeper:'; write --owner keeper for the owner alone",
        2,
    ),
    (
        f"set {KEYS} --owner keeper:watch --group survey --preview",
        "fiat set: 'keeper:watch' names a group, and --group another; write one of them",
        2,
    ),
    # entries by a name alone
    (f"set {KEYS} --entry surveyor:r --preview", PREVIEW, 0),
    (f"set {KEYS} --entry press:rx --preview", PREVIEW, 0),
    (f"set {KEYS} --entry surveyor:r,press:rx --preview", PREVIEW, 0),
    (
        f"set {KEYS} --entry root:r --preview",
        "fiat set: 'root' is both a user and a group; write user:root:r or group:root:r",
        2,
    ),
    (
        f"set {KEYS} --entry 7101:r --preview",
        "fiat set: '7101' could be the number of a user and of a group; write user:7101:r or group:7101:r",
        2,
    ),
    (
        f"set {KEYS} --entry servyor:r --preview",
        "fiat set: no user and no group is called 'servyor'; near is 'surveyor'; near is 'survey'",
        2,
    ),
    ("set /srv/skerry/gauge/raw --no-entry auditor --preview", PREVIEW, 0),
    (f"set {KEYS} --no-entry surveyor --preview", f"Already so, nothing to change: {KEYS}", 0),
    (
        f"set {KEYS} --no-entry servyor --preview",
        "fiat set: no user and no group is called 'servyor'; near is 'surveyor'; near is 'survey'",
        2,
    ),
    (
        f"set {KEYS} --no-entry user:servyor --preview",
        "fiat set: no user is called 'servyor' in the accounts of skerry; near is 'surveyor'",
        2,
    ),
    # rights by their letters, and several
    (f"why auditor r {RAW}", f"Yes. auditor may read {RAW}", 0),
    ("why keeper x /srv/skerry/logbook", "Yes. keeper may traverse /srv/skerry/logbook", 0),
    ("why surveyor x /srv/skerry/tools/reduce", "Yes. surveyor may execute /srv/skerry/tools/reduce", 0),
    (f"why auditor rw {RAW}", f"read yes, write NO (EACCES): auditor at {RAW}", 1),
    (f"why keeper rw,delete {RAW} /srv/skerry/logbook", f"read yes, write yes, delete NO (EACCES): keeper at {RAW}", 1),
    (f"why keeper read,write {RAW}", f"read yes, write yes: keeper at {RAW}", 0),
    (
        f"why keeper raed {RAW}",
        "fiat why: 'raed' is no right; near are 'read', 'append'; these are: read, write, execute, traverse, list, "
        "append, create, delete, rename, change-mode, change-owner, change-group",
        2,
    ),
    (f"who {RAW} --can rw --user keeper", RAW, 0),
    (f"who {RAW} --can w --user auditor", RAW, 1),
    # forms and help
    (f"who {RAW} --json", '{"schema": "fiat/1", "command": "who", "results": [', 0),
    ("help set", "usage: fiat set [PATH…] [OPTION…]", 0),
    ("help", "usage: fiat COMMAND [WORD…]", 0),
    (f"why auditor read {RAW} --quiet", "", 0),
    (f"why auditor write {RAW} --quiet", "", 1),
    ("show /nowhere --quiet", "fiat show: cannot look at '/nowhere': No such file or directory", 2),
    # notations
    ("decode rwx", "'rwx' taken for what one class has, in letters", 0),
    ("decode 0o755", "'0o755' taken for a mode in octal digits", 0),
    ("decode 100644", "'100644' taken for a mode in octal digits", 0),
    ("decode u+s", "'u+s' taken for a change of mode, in clauses", 0),
    # words that people bring
    (
        f"set {KEYS} -R 750",
        "fiat set: there is no option '-R': --below means a path and the whole tree under it; "
        "fiat set --help explains it",
        2,
    ),
    (
        "show /srv --recursive",
        "fiat show: there is no option '--recursive': --below means a path and the whole tree under it; "
        "fiat show --help explains it",
        2,
    ),
    (
        f"set {KEYS} --blow --mode 750",
        "fiat set: there is no option '--blow'; near are '--below', '--owner'; fiat set --help explains it",
        2,
    ),
    (
        f"set {KEYS} --mode 750 --dry-run",
        "fiat set: there is no option '--dry-run': --preview shows what would happen, and changes nothing; "
        "fiat set --help explains it",
        2,
    ),
    (
        "explain x",
        "fiat: no command is called 'explain'; fiat why is for that: one verdict, walked component by component; "
        "fiat --help lists them",
        2,
    ),
    ("sho x", "fiat: no command is called 'sho'; near are 'show', 'who'; fiat --help lists them", 2),
    # one question, one command
    ("show /srv/skerry --below --with o+w --without sticky", "/srv/skerry", 0),
    ("show /srv/skerry --below --with-any setuid,setgid", "/srv/skerry", 0),
    ("show /srv/skerry --below --with-any no-owner --with-any no-group", "/srv/skerry", 0),
    (
        "show /srv/skerry --below --without stikcy",
        "fiat show: 'stikcy' is nothing to look for; near is 'sticky'; bits such as o+w or 4000 are, and list, "
        "default-list, capabilities, immutable, append-only, no-owner, no-group, setuid, setgid, sticky, "
        "entry-for:NAME",
        2,
    ),
    ("who /srv/skerry --below --can write --more-than 3", "/srv/skerry and all below it", 0),
    ("who /srv/skerry --below --can write --more-than 30", "/srv/skerry and all below it", 1),
    (f"who {KEYS} --below --can write --user keeper", f"{KEYS}/  (and all below it: 2 paths)", 0),
    (f"who {KEYS} --below --can write --user keeper --all", f"{KEYS}/", 0),
    (f"who {KEYS} --below --can write --user auditor", f"  write on 0 of 3 paths at and below {KEYS}", 1),
    (f"who {KEYS} --below --can write --anyone-else", f"  write on 0 of 3 paths at and below {KEYS}", 1),
    ("who /srv/skerry --below --topmost", "fiat who: --topmost goes with --below, one --can and --user", 2),
    (
        "why surveyor run reduce --folders /srv/skerry/tools:/usr/bin",
        "Yes. surveyor gets /srv/skerry/tools/reduce by the name reduce",
        0,
    ),
    ("why surveyor run reduce", "No. surveyor finds nothing called reduce  (ENOENT, command not found)", 1),
    (
        "why chartpress run calibration.ini --folders /srv/skerry/tools",
        "No. what is called calibration.ini may not be run by chartpress  (EACCES)",
        1,
    ),
    (
        "why chartpress run ./reduce",
        "fiat why: './reduce' is no name to look for; fiat why WHO execute PATH asks about a path",
        2,
    ),
    ("show --umask", "0022  u=rwx,g=rx,o=rx  the umask of whoever took the snapshot", 0),
    (
        "show --umask --user keeper",
        "fiat show: --user does not go with --from: a snapshot holds none of the files that set a umask",
        2,
    ),
)


@pytest.mark.parametrize(("typed", "first", "status"), TYPED, ids=[typed for typed, _, _ in TYPED])
def test_what_is_typed_first(typed: str, first: str, status: int) -> None:
    words = shlex.split(typed)
    about = [] if words[0] in ("help", "explain", "sho") else ["--from", "skerry"]
    done = fiat(*words, *about)
    assert done.returncode == status, done
    assert (done.stdout or done.stderr).partition("\n")[0] == first
    if status == 2:  # a word that was never typed is in no error
        for quoted in re.findall(r"(?<!near is )(?<!near are )'([^' ]+)'", done.stderr.partition("; near")[0]):
            assert quoted in typed


@pytest.mark.root
def test_numbers_without_an_account_are_named_in_their_order(folder: str) -> None:
    """They come out of a set, and text that is piped must be the same each time."""
    for uid in (7011, 7002, 7109):
        os.chown(make(f"{folder}/of-{uid}", 0o644), uid, uid)
    said = {
        fiat("set", folder, "--below", "--file-mode", "000", "--preview", env={"PYTHONHASHSEED": seed}).stdout
        for seed in "1234"
    }
    assert len(said) == 1
    assert "uid 7002, uid 7011, uid 7109" in said.pop()


def test_the_same_of_real_files(folder: str) -> None:
    path = make(f"{folder}/f", 0o600)
    make(f"{folder}/640", 0o600)
    done = fiat("set", "f", "640", cwd=folder)
    said = "fiat set: '640' is a mode and a file here; write --mode 640, or ./640\n"
    assert (done.returncode, done.stderr) == (2, said)
    assert fiat("set", "f", "./640", "--mode", "640", "--quiet", cwd=folder).stdout == ""
    assert (mode_of(path), mode_of(f"{folder}/640")) == (0o640, 0o640)
    assert fiat("set", "rw-rw----", "f", cwd=folder).returncode == 0
    assert mode_of(path) == 0o660


# --- what is read ---------------------------------------------------------------------


def sample_text(typed: str) -> str:
    return fiat(*shlex.split(typed), "--from", "skerry").stdout


READ = (
    (f"who {KEYS}", "  no    no           no        everyone except root, keeper\n"),
    ("who /srv/skerry/tools/ring-bell", "  yes   no     yes      everyone except root\n"),
    (
        "who /srv/skerry --below",
        "    write           its owner (5 owners: root, keeper, surveyor and 2 services) and root\n",
    ),
    ("who /srv/skerry --below", "32 distinct answers, 21 but for who owns what\n"),
    ("set /srv/skerry --below --mode 777 --preview", "delete on 17 to 35 paths: everyone except root\n"),
    (
        "set /srv/skerry --below --owner keeper --preview",
        "owner         5 owners: surveyor (7102), chartpress (7107), steward (7103) and 2 more     keeper (7101)\n",
    ),
    (
        "set /srv/skerry/log --below --mode 640 --preview",
        "Would be refused by guard held-by-flags: '/srv/skerry/log/",
    ),
    (
        f"why chartpress read {RAW}",
        "What would have to change: both of these steps, each in one of its ways, or\n"
        "  - making chartpress a member of group watch, which is allowed it all, with all else that it may do: that "
        "alone is enough\n  1. at /srv/skerry/gauge/raw\n",
    ),
    (
        "why surveyor read /srv/skerry/observatory/2026/november/barometer.csv",
        "  not reached  2 more steps, which would",
    ),
    (f"show {RAW}", "regular file, 18,432 bytes, 1 name, modified 2026-11-02"),
)


@pytest.mark.parametrize(("typed", "part"), READ, ids=[typed for typed, _ in READ])
def test_what_is_read(typed: str, part: str) -> None:
    assert part in sample_text(typed)


def test_what_says_nothing_is_not_said(folder: str) -> None:
    make(f"{folder}/d", 0o755, directory=True)
    text = fiat("show", f"{folder}/d").stdout
    assert "access list" not in text
    assert "options change nothing" not in text
    path = make(f"{folder}/f", 0o640)
    give_list(path, "user::rw-,user:7105:rwx,group::rwx,mask::rw-,other::---")  # as a default list of rwx makes it
    assert "mask-cuts" not in [one["code"] for one in machine("show", path)["results"][0]["remarks"]]
    give_list(path, "user::rw-,user:7105:rwx,group::rwx,mask::r--,other::---")
    remarks = machine("show", path)["results"][0]["remarks"]
    assert [one["code"] for one in remarks].count("mask-cuts") == 1


def test_json_says_the_same_in_short() -> None:
    (one,) = machine("who", KEYS, "--from", "skerry")["results"]
    assert one["short"] == dict.fromkeys(("read", "write", "traverse"), "2 users: root, keeper")
    found = machine("who", "/srv/skerry", "--below", "--from", "skerry")["results"]
    assert "everyone" in [one["rights"]["read"] and one["rights"]["read"]["short"] for one in found]
    rows = [row for one in found for row in one["rows"]]
    assert len(set(rows)) == 21
    assert max(rows) == 21


@pytest.mark.root
def test_a_refusal_comes_first_and_each_guard_takes_a_line(folder: str) -> None:
    top = make(f"{folder}/homes", 0o755, directory=True)
    for number in range(12):
        os.chown(make(f"{top}/{number}", 0o700, directory=True), 20001 + number, 30001)
    done = fiat("set", top, "--below", "--mode", "a=,o=rwx")
    assert done.returncode == 4
    lines = done.stderr.splitlines()
    assert [line.split(":")[1] for line in lines[:2]] == [
        " refused by guard lockout",
        " refused by guard everyone-writes",
    ]
    assert re.search(r"its owner number 200\d\d, .* and 9 more could no longer traverse it$", lines[0])
    assert lines[-1].strip() == "--accept lockout --accept everyone-writes"
    assert done.stdout.startswith("Refused: nothing is written. 13 paths would change.\n")
    again = fiat("set", top, "--below", "--mode", "a=,o=rwx", "--accept", "lockout")
    assert "lockout" not in again.stderr


@pytest.mark.root
def test_what_the_kernel_refuses_is_told_once(folder: str) -> None:
    os.chmod(folder, 0o755)
    top = make(f"{folder}/tree", 0o755, directory=True)
    for number in range(40):
        make(f"{top}/{number}", 0o644)
    somebody = Principal("user", None, 20001, frozenset((30001,)))
    status, _, errors = fiat_as(somebody, "set", top, "--below", "--mode", "o-r")
    assert status == 3
    (line,) = errors.splitlines()
    assert line.startswith(
        f"fiat set: cannot change 41 paths, such as '{top}': Operation not permitted; only its owner, "
    )
    _, told, _ = fiat_as(somebody, "set", top, "--below", "--mode", "o-r", "--json")
    assert len(json.loads(told)["problems"]) == 41


@pytest.mark.root
def test_reading_and_writing_granted_apart(folder: str) -> None:
    path = make(f"{folder}/f", 0o600)
    give_list(path, "user::rw-,group::r--,group:0:-w-,mask::rw-,other::---")
    os.chown(path, 20001, 30001)
    os.chmod(folder, 0o755)
    with open(f"{folder}/passwd", "w") as users, open(f"{folder}/group", "w") as groups:
        users.write("root:x:0:0:::\nkeeper:x:20002:30001:::\n")
        groups.write("root:x:0:keeper\nwatch:x:30001:\n")
    done = fiat("why", "keeper", "rw", path, "--accounts", folder)
    assert done.returncode == 0
    assert "Opening it for reading and writing at once fails all the same" in done.stdout
    assert fiat("why", "keeper", "r", path, "--accounts", folder).stdout.count("at once") == 0


def test_an_x_that_does_nothing_is_told(folder: str) -> None:
    path = make(f"{folder}/tool", 0o700, text=b"#!/bin/sh\n")
    done = fiat("set", path, "--mode", "a+x", "--preview")
    said = "this is a script for /bin/sh, which must read it: x without r does not let the group or other run it"
    assert f"  -  {path}: {said}\n" in done.stdout
    assert [one["code"] for one in machine("set", path, "--mode", "a+x", "--preview")["notes"]] == [
        "script-not-readable"
    ]
    assert said not in fiat("set", path, "--mode", "a+rx", "--preview").stdout


def test_undo_names_the_run_that_comes_first(folder: str) -> None:
    history = ("--history", f"{folder}/h.db")
    paths = [make(f"{folder}/{name}", 0o644) for name in "ab"]
    assert fiat("set", *paths, "640", *history).returncode == 0
    assert fiat("set", paths[0], "600", *history).returncode == 0
    done = fiat("undo", "1", *history)
    assert done.returncode == 3
    assert done.stderr.endswith(": run 2 changed it since: fiat undo 2 comes first\n")
    assert fiat("undo", "2", *history).returncode == 0
    assert fiat("undo", "1", *history).returncode == 0
    told = fiat("history", *history).stdout
    assert "undo 2" in told
    before = len(machine("history", *history)["results"])
    for path in paths:
        os.chmod(path, 0o640)
    assert fiat("set", *paths, "600", *history).returncode == 0
    for path in paths:
        os.chmod(path, 0o640)
    done = fiat("undo", *history)
    said = (
        f"Nothing to put back: everything is as it was before run {before + 1}. Nothing is written, and no run is made"
    )
    assert (done.returncode, said in done.stdout) == (0, True)
    assert len(machine("history", *history)["results"]) == before + 1


# --- spreadsheets ----------------------------------------------------------------------


def test_tables_are_made_for_spreadsheets() -> None:
    (row,) = csv.DictReader(io.StringIO(sample_text(f"show {RAW} --format csv")))
    assert (row["mode"], row["changed"]) == ("0640", "2026-11-02T21:40:00Z")
    rows = list(csv.DictReader(io.StringIO(sample_text(f"set {KEYS} --below --mode o+r --preview --format csv"))))
    assert [(row["path"], row["mode_before"], row["mode_after"]) for row in rows][1:] == [
        (f"{KEYS}/gate.key", "0644", "0644"),
        (f"{KEYS}/lamp.key", "0600", "0604"),
    ]
    asked = "who /srv/skerry --below --can write --user keeper"
    text = sample_text(f"{asked} --all").splitlines()[:-1]
    table = [row["path"] for row in csv.DictReader(io.StringIO(sample_text(f"{asked} --format csv")))]
    assert [line.rstrip("/") for line in text] == table
    found = json.loads(sample_text(f"{asked} --json"))["results"]
    assert sum(one["directories"] + one["others"] for one in found) == len(table)
    top = [row["path"] for row in csv.DictReader(io.StringIO(sample_text(f"{asked} --topmost --format csv")))]
    assert len(top) < len(table)
    assert set(top) <= set(table)


@pytest.mark.parametrize("command", [*names(), "chart"])
def test_help_fits_on_two_screens(command: str) -> None:
    """What is to be copied is in one piece, however long; nothing is over the 80 columns otherwise."""
    lines = fiat(*command.split(), "--help").stdout.splitlines()
    assert len(lines) <= 96
    assert max(len(line) for line in lines if not line.startswith("  fiat ")) <= 80
