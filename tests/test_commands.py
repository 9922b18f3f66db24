"""The built program on the sample host and on real files: what it says, in text and in JSON."""

import itertools
import json
import os
import pty
import stat
import subprocess
from pathlib import Path

import pytest

from fiat.core.model import accesslist, listbytes
from fiat.core.model.listbytes import ACCESS_XATTR
from fiat.core.model.principals import Principal
from fiat.core.words.entries import parse_list
from support.program import PROGRAM, fiat, fiat_as, machine, sample

S = "/srv/skerry"
SAMPLE = ("--from", "skerry")


# --- the contract of machine output ----------------------------------------


def test_show_fields() -> None:
    (result,) = machine("show", f"{S}/gauge/raw/0412.csv", *SAMPLE)["results"]
    expected = {
        "path": "/srv/skerry/gauge/raw/0412.csv",
        "kind": "file",
        "mode": "0640",
        "letters": "rw-r-----",
        "special": [],
        "owner": {"uid": 7101, "name": "keeper"},
        "group": {"gid": 7201, "name": "watch"},
        "acl": ["user::rw-", "user:7105:r--", "group::r--", "mask::r--", "other::---"],
        "default": None,
        "flags": [],
        "capabilities": None,
        "links": 1,
        "size": 18432,
    }
    assert {name: result[name] for name in expected} == expected
    assert result["mount"] | {"point": "/", "type": "ext4", "options": ["rw", "relatime"]} == result["mount"]


def test_who_fields() -> None:
    (result,) = machine("who", f"{S}/observatory", *SAMPLE)["results"]
    assert (result["path"], result["kind"]) == (f"{S}/observatory", "directory")
    users = {user["name"]: user for user in result["users"]}
    assert list(users) == "root keeper surveyor steward apprentice auditor tidefeed chartpress nobody".split()
    keeper = users["keeper"]
    assert keeper["because"] == {"read": "owner", "write": "owner", "traverse": "owner"}
    assert (keeper["read"], keeper["write"], keeper["execute"], keeper["traverse"]) == (True, True, None, True)
    assert users["root"]["because"]["read"] == "superuser"
    watch = next(group for group in result["groups"] if group["name"] == "watch")
    assert watch["gid"] == 7201
    assert watch["members"] == 4
    assert watch["alone"] == {"read": True, "write": False, "execute": None, "traverse": True}
    assert watch["members_who"] == {"read": 4, "write": 1, "traverse": 4}
    assert result["anyone_else"] == {"read": False, "write": False, "execute": None, "traverse": False}


def test_who_lists_numbers_without_an_account() -> None:
    (result,) = machine("who", f"{S}/series/reduced-1998.csv", *SAMPLE)["results"]
    (unnamed,) = [user for user in result["users"] if user["name"] is None]
    assert (unnamed["uid"], unnamed["read"], unnamed["because"]["read"]) == (7188, True, "owner")


def test_why_fields() -> None:
    value = machine("why", "surveyor", "read", f"{S}/observatory/2026/november/barometer.csv", *SAMPLE, status=1)
    (result,) = value["results"]
    assert result["who"] | {"kind": "user", "name": "surveyor", "uid": 7102, "gids": [7202, 7302]} == result["who"]
    assert (result["right"], result["allowed"], result["errno"]) == ("read", False, "EACCES")
    assert result["blocker"] == f"{S}/observatory"
    first, last = result["steps"][0], result["steps"][-1]
    assert first | {"path": "/", "needs": "traverse", "allowed": True, "rule": "other", "entry": "other::r-x"} == first
    assert last | {"path": f"{S}/observatory", "allowed": False, "entry": "other::---"} == last


def test_set_fields_and_the_gains_are_the_difference_of_who() -> None:
    path = f"{S}/observatory"
    value = machine("set", path, "--mode", "751", "--preview", *SAMPLE)
    (result,) = value["results"]
    assert (result["before"]["mode"], result["after"]["mode"]) == ("0750", "0751")
    assert (value["applied"], value["guards"], value["losses"]) == (False, [], [])
    gains = {(gain["who"], gain["right"]): gain["paths"] for gain in value["gains"]}
    # the directory itself and the two in it; the names of those two, and the file in the last
    assert gains["surveyor", "traverse"] == 3
    assert gains["surveyor", "read"] == 3
    assert gains["group:press", "traverse"] == 3
    assert gains["anyone-else", "traverse"] == 3
    assert not any(who in ("keeper", "root", "steward") for who, _ in gains)


# --- each situation of the sample host ---------------------------------------


@pytest.mark.parametrize(
    ("who", "right", "path", "blocker", "says"),
    [
        ("surveyor", "read", "observatory/2026/november/barometer.csv", "observatory", "not reached"),
        ("steward", "write", "series/reduced-2026.csv", "series/reduced-2026.csv", "the mask r-- cuts it off"),
        ("surveyor", "write", "logbook/1911.txt", "logbook/1911.txt", "passes over the list"),
        ("keeper", "write", "logbook/today.txt", "logbook/today.txt", "owner's letters alone count"),
        ("chartpress", "write", "log/chartpress.log", "log/chartpress.log", "--mode g+w"),
        ("auditor", "execute", "tools/reduce", "tools/reduce", "its interpreter has to read it"),
        ("root", "execute", "tools/resync", "tools/resync", "EACCES"),
        ("root", "write", "logbook/1912.txt", "logbook/1912.txt", "immutable"),
        ("tidefeed", "write", "log/tidefeed.log", "log/tidefeed.log", "append-only"),
        ("steward", "read", "keys/gate.key", "keys", "--mode g+x"),
        ("auditor", "read", "dropbox", "dropbox", "other::-wx"),
    ],
)
def test_why_explains(who: str, right: str, path: str, blocker: str, says: str) -> None:
    done = sample("why", who, right, f"{S}/{path}")
    assert done.returncode == 1
    assert done.stdout.startswith("No, E")
    assert f" {who} may not " in done.stdout.splitlines()[0]
    assert f"Stopped at {S}/{blocker}: " in done.stdout
    assert says in done.stdout


@pytest.mark.parametrize(
    ("path", "code"),
    [
        ("series/reduced-2026.csv", "mask-cuts"),
        ("series/reduced-1998.csv", "owner-without-account"),
        ("charts/draft/approach.chart", "empty-group"),
        ("charts/draft", "setgid-directory"),
        ("charts/draft", "inherits"),
        ("logbook/1911.txt", "list-passed-over"),
        ("logbook/1912.txt", "immutable"),
        ("logbook/today.txt", "owner-has-less"),
        ("log/tidefeed.log", "append-only"),
        ("dropbox", "sticky"),
        ("tools/resync", "capital-s"),
        ("tools/ring-bell", "setuid"),
        ("tools/reduce", "script-not-readable"),
        ("tools/tide-listen", "capabilities"),
        ("tools/calibration.ini", "everyone-writes"),
        ("../../mnt/vault/replay", "noexec"),
    ],
)
def test_show_remarks_on_what_is_odd(path: str, code: str) -> None:
    (result,) = machine("show", f"{S}/{path}", *SAMPLE)["results"]
    remarks = {remark["code"]: remark["text"] for remark in result["remarks"]}
    assert code in remarks
    assert remarks[code] in sample("show", f"{S}/{path}").stdout


def test_who_groups_equal_answers_and_says_where_people_stop() -> None:
    text = sample("who", f"{S}/observatory/2026/november/barometer.csv").stdout
    assert "superuser root" in text
    assert "3 users: steward, apprentice, tidefeed" in text
    assert f"Stopped on the way, at {S}/observatory (0750 rwxr-x---): everyone else: surveyor, auditor" in text


EXAMPLES = [
    *"show decode who why set foresee let bar save compare restore audit check".split(),
    *(f"chart {kind}" for kind in ("who", "below", "change", "why", "over-time", "page")),
]


@pytest.mark.parametrize("command", EXAMPLES)
def test_the_examples_in_the_help_run(command: str, tmp_path: Path) -> None:
    lines = [line.strip() for line in fiat(*command.split(), "--help").stdout.splitlines()]
    examples = [line.split()[1:] for line in lines if line.startswith(f"fiat {command} ")]
    assert len(examples) >= 2
    for words in examples:
        own = "--from" in words or {"compare", "restore", "over-time"} & {*words[:3]}
        done = (fiat if own else sample)(*words, cwd=str(tmp_path))
        assert done.returncode in (0, 1), words
        assert done.stdout or os.path.getsize(tmp_path / words[words.index("-o") + 1]) > 1000
        assert not done.stderr


def test_the_demo_runs_to_its_end() -> None:
    done = fiat("demo")
    assert (done.returncode, done.stderr) == (0, "")
    for part in ("== Look ==", "== Understand ==", "== Change ==", "== Verify ==", "$ fiat why surveyor read"):
        assert part in done.stdout


def test_the_demo_stops_before_each_chapter_for_whoever_sits_there() -> None:
    """On a terminal; q ends it, and --no-pause goes on."""
    leader, follower = pty.openpty()
    child = subprocess.Popen([*PROGRAM, "demo"], stdin=follower, stdout=follower, stderr=follower)
    os.close(follower)
    seen = b""
    for answer_ in (b"\n", b"q\n"):
        while not seen.endswith(b"q ends it: "):
            seen += os.read(leader, 65536)
        os.write(leader, answer_)
        seen += b"|"
    assert child.wait() == 0
    os.close(leader)
    assert (seen.count(b"== Understand =="), seen.count(b"== Change ==")) == (1, 0)
    assert "q ends it" not in fiat("demo", "--no-pause").stdout


def test_all_that_is_wrong_is_told_quietly_and_nothing_else() -> None:
    """What a timer runs: nothing while all is well, and where not just that, with the same status."""
    for words, status, has, lacks in (
        (("check", "skerry"), 1, "broken  the chart press writes its log", "held"),
        (("audit", "/srv"), 1, "calibration.ini: everyone may write to it", "odd  "),
        (("compare", "skerry", "skerry-later"), 1, "Gains  read on 3 paths", "Not counted"),
        (("compare", "skerry", "skerry"), 0, "", "skerry"),
        (("audit", "/srv/skerry/keys"), 0, "", "keys"),
        (("who", "/srv/skerry/keys", "--can", "write", "--anyone-else"), 1, "", "keys"),
    ):
        host = () if words[0] == "compare" else SAMPLE
        loud, quiet = (fiat(*words, *more, *host) for more in ((), ("-q",)))
        assert (loud.returncode, quiet.returncode, quiet.stderr) == (status, status, "")
        assert has in quiet.stdout
        assert lacks not in quiet.stdout
        assert bool(quiet.stdout) == bool(has)


def test_several_rights_have_a_column_each_on_one_way() -> None:
    """Each mark is the step of that right where it is asked for alone; what is common stands there once."""
    path = f"{S}/observatory/2026/november/barometer.csv"
    for who, asked in (("surveyor", "read,write,delete"), ("tidefeed", "rw"), ("keeper", "read,write,execute")):
        target = f"{S}/gauge/raw/0412.csv" if who == "tidefeed" else path
        results = machine("why", who, asked, target, "--from", "skerry", status=1)["results"]
        lines = sample("why", who, asked, target, "--all").stdout.splitlines()
        (header,) = [
            number for number, line in enumerate(lines) if line.split()[-4:] == ["needs", "rule", "entry", "at"]
        ]
        rights = lines[header].split()[:-4]
        assert rights == [one["right"] for one in results]
        assert f": {who} at {target}" in lines[0]
        columns = [lines[header].index(f"  {right}") + 2 for right in rights]
        rows: dict[tuple[str, str], list[str]] = {}
        for line in itertools.takewhile(str.strip, lines[header + 1 :]):
            place, needs = line.split()[-1], line[lines[header].index("needs") :].split()[0]
            marks = [line[begin : begin + 4].strip() for begin in columns]
            assert (place, needs) not in rows, "each step once"
            rows[place, needs] = marks
        for number, one in enumerate(results):
            for steps, words in ((one["steps"], ("yes", "NO")), (one["beyond"], ("-", "no"))):
                for step in steps:
                    mark = rows[step["path"], step["needs"].split(",")[0]][number]
                    assert mark == words[not step["allowed"]], (who, one["right"], step)


@pytest.mark.root
def test_the_built_sample_is_the_sample(folder: str) -> None:
    assert fiat("demo", f"{folder}/new").returncode == 0
    top, accounts = f"{folder}/new", f"{folder}/new/accounts"
    with open(os.path.join(os.path.dirname(accesslist.__file__), "../../demo/skerry.jsonl")) as lines:
        paths = [found["path"] for found in map(json.loads, lines) if found.get("path", "").startswith("/srv/")]
    built = machine("show", *(top + path for path in paths), "--accounts", accounts)["results"]
    held = machine("show", *paths, *SAMPLE)["results"]
    assert len(built) == len(held) > 35
    for real, image in zip(built, held, strict=True):
        for field in ("kind", "mode", "owner", "group", "acl", "default", "capabilities", "target", "script"):
            assert real[field] == image[field], image["path"]
    settings = Path(f"{top}/settings.sh")
    shell = f'. "{settings}"; "$@"'
    words = ("show", "--user", "surveyor", "--group", "watch", "-q")
    assert subprocess.run(["sh", "-c", shell, "sh", *PROGRAM, *words], check=False).returncode == 0
    again = fiat("demo", f"{folder}/new")
    assert again.returncode == 2
    assert "not empty" in again.stderr


@pytest.mark.root
def test_where_others_can_write_it_is_said_what_a_change_of_the_built_sample_takes(folder: str) -> None:
    for place, trusted in ((f"{folder}/mine", False), (f"{folder}/all/top", True)):
        os.makedirs(os.path.dirname(place), exist_ok=True)
        if trusted:
            os.chmod(os.path.dirname(place), 0o1777)
        built = fiat("demo", place)
        assert built.returncode == 0
        words = f"--trust-file {place}/accounts"
        assert (words in built.stdout) == trusted
        change = (
            "set",
            f"{place}/srv/skerry/charts",
            "--mode",
            "o=",
            "--no-history",
            "--accounts",
            f"{place}/accounts",
        )
        assert fiat(*change).returncode == (4 if trusted else 0)
        assert fiat(*change, *words.split()).returncode == 0


# --- changing real files -----------------------------------------------------


def test_set_changes_the_file_and_says_who_gained(folder: str) -> None:
    path = f"{folder}/new"
    os.close(os.open(path, os.O_CREAT, 0o600))
    assert "Nothing is written" in fiat("set", path, "--mode", "644", "--preview").stdout
    assert stat.S_IMODE(os.stat(path).st_mode) == 0o600
    done = fiat("set", path, "--mode", "644")
    assert done.returncode == 0
    assert stat.S_IMODE(os.stat(path).st_mode) == 0o644
    assert "0600  rw-------" in done.stdout
    assert "0644  rw-r--r--" in done.stdout
    assert "Gains  read: everyone except root\n" in done.stdout
    assert "nothing to change" in fiat("set", path, "--mode", "u=rw,go=r").stdout


def test_set_follows_a_named_link_and_says_so(folder: str) -> None:
    os.close(os.open(f"{folder}/real", os.O_CREAT, 0o600))
    os.symlink("real", f"{folder}/link")
    done = fiat("set", "link", "real", "--mode", "640", cwd=folder)
    assert f"link leads to {folder}/real, which is what changes" in done.stdout
    assert "1 path changed" in done.stdout
    assert stat.S_IMODE(os.stat(f"{folder}/real").st_mode) == 0o640


def test_set_with_a_list_changes_the_mask(folder: str) -> None:
    path = f"{folder}/listed"
    os.close(os.open(path, os.O_CREAT, 0o600))
    acl = parse_list("u::rw,u:7105:rw,g::r,m::rw,o::-", int, int)
    os.setxattr(path, ACCESS_XATTR, listbytes.pack(acl))
    value = machine("set", path, "--mode", "g=r")
    assert value["applied"] is True
    assert value["results"][0]["notes"][0]["code"] == "sets-mask"
    assert value["results"][0]["after"]["acl"] == listbytes.unpack(os.getxattr(path, ACCESS_XATTR)).texts()
    assert {loss["who"] for loss in value["losses"]} == {"uid:7105"}


@pytest.mark.root
def test_an_ordinary_user_is_told_what_cannot_be_done(folder: str) -> None:
    os.chmod(folder, 0o755)
    os.mkdir(f"{folder}/shut", 0o700)
    os.close(os.open(f"{folder}/shut/inside", os.O_CREAT, 0o644))
    os.close(os.open(f"{folder}/mine", os.O_CREAT, 0o644))
    os.close(os.open(f"{folder}/theirs", os.O_CREAT, 0o644))
    os.chown(f"{folder}/mine", 65534, 65534)
    nobody = Principal("user", "nobody", 65534, frozenset((65534,)))
    status, _, errors = fiat_as(nobody, "show", f"{folder}/shut/inside")
    assert status == 3
    assert "run it as root" in errors
    assert fiat_as(nobody, "why", "root", "read", f"{folder}/shut/inside")[0] == 3
    assert fiat_as(nobody, "why", "nobody", "read", f"{folder}/shut/inside")[0] == 1
    words = ("set", f"{folder}/mine", f"{folder}/theirs", "--mode", "600")
    status, _, errors = fiat_as(nobody, *words)
    assert status == 4
    assert "1 of 2 paths cannot be changed by " in errors
    assert "belonging to somebody else" in errors
    status, _, errors = fiat_as(nobody, *words, "--accept", "partly-forbidden")
    assert status == 3
    assert f"'{folder}/theirs': Operation not permitted" in errors
    assert stat.S_IMODE(os.stat(f"{folder}/mine").st_mode) == 0o600
    assert stat.S_IMODE(os.stat(f"{folder}/theirs").st_mode) == 0o644


@pytest.mark.root
def test_where_the_current_directory_may_not_be_entered(folder: str) -> None:
    os.chmod(folder, 0o755)
    os.mkdir(f"{folder}/shut", 0o700)
    os.mkdir(f"{folder}/tree")
    os.mkdir(f"{folder}/tree/theirs", 0o700)
    nobody = Principal("user", "nobody", 65534, frozenset((65534,)))
    home = os.getcwd()
    os.chdir(f"{folder}/shut")
    try:
        for words in (
            ("who", f"{folder}/tree", "--below", "--can", "traverse"),
            ("show", f"{folder}/tree", "--below"),
            ("set", f"{folder}/tree", "--below", "--mode", "u+x", "--preview"),
        ):
            status, out, errors = fiat_as(nobody, *words)
            assert (status, "cannot go on" in errors) == (3, False), (words, errors)
            assert f"{folder}/tree/theirs" in out + errors
        assert "/shut/tree" in fiat_as(nobody, "show", f"{folder}/tree", "tree")[2]  # not the one under the root
    finally:
        os.chdir(home)
