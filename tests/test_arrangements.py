"""Arrangements: what each promises is what the kernel then does, what is made later too; and those of one's own."""

import os
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from fiat.app.arrange import known_arrangements
from fiat.app.look import may_be_arranged
from fiat.core.model.posture import Kind, Posture
from support.estates import ACCEPT, GROUPS, MEMBERS, PRIMARY, USERS, Crowd, crowd, write_accounts
from support.files import give_list, make, mode_of, state_of
from support.filesystems import fresh
from support.program import answer, fiat, machine, run_here

ALLOWED = Callable[[str, str, str], bool]
"""Whether somebody, by word, may have a right on what is at a path."""

OWNER = "steward"


def _in(group: str) -> set[str]:
    return {name for name, own in PRIMARY.items() if own == group} | {*MEMBERS[group], f"group:{group}"}


def _owner_and(readers: set[str], *, write: set[str] = frozenset(), look: str | None = None) -> ALLOWED:  # type: ignore[assignment]
    """The owner has everything; some read, some write too, and the group of the tree looks."""
    looking = _in(look) if look else set()

    def may(who: str, right: str, path: str) -> bool:
        if who == OWNER:
            return right in ("read", "write", "traverse")
        if right == "write":
            return who in write
        return who in readers | write | looking

    return may


PROMISES: dict[str, ALLOWED] = {
    "private": _owner_and(set()),
    "team:survey": lambda who, right, path: who in _in("survey") | {OWNER},
    "readers:auditor,group:watch": _owner_and({"auditor"} | _in("watch")),
    "published:tidefeed": _owner_and({"tidefeed"}, look="stewards"),
    "inbox:tidefeed": _owner_and(set(), write={"tidefeed"}, look="stewards"),
    "log:tidefeed": _owner_and(set(), write={"tidefeed"}, look="stewards"),
}


@pytest.fixture(scope="module")
def accounts() -> Iterator[str]:
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as folder:
        write_accounts(folder)
        yield folder


def grown(top: str) -> list[str]:
    """A small tree as trees become: letters of all sorts, a list here, a default list there, a script."""
    uid, gid = USERS[OWNER], GROUPS["stewards"]
    make(f"{top}/t", 0o755, directory=True)
    make(f"{top}/t/in", 0o2777, directory=True)
    give_list(f"{top}/t/in", "u::rwx,u:21002:rwx,g::r-x,m::r-x,o::r-x")
    give_list(f"{top}/t/in", "u::rwx,u:21002:rwx,g::r-x,m::rwx,o::r-x", "system.posix_acl_default")
    make(f"{top}/t/open.csv", 0o666)
    make(f"{top}/t/closed.csv", 0o000)
    make(f"{top}/t/in/run", 0o755, text=b"#!/bin/sh\n")
    make(f"{top}/t/in/named.csv", 0o640)
    give_list(f"{top}/t/in/named.csv", "u::rw-,u:21004:rw-,g::r--,m::r--,o::---")
    paths = [f"{top}/t{rest}" for rest in ("", "/in", "/open.csv", "/closed.csv", "/in/run", "/in/named.csv")]
    for path in paths:
        os.chown(path, uid, gid)
    return paths


def tried(everyone: Crowd, paths: list[str]) -> set[tuple[str, str, str]]:
    """Who may read, write and traverse what, by trying."""
    questions = [(right, path) for path in paths for right in ("read", "write", "traverse")]
    questions = [(right, path) for right, path in questions if os.path.isdir(path) or right != "traverse"]
    how = [("write in" if right == "write" and os.path.isdir(path) else right, path) for right, path in questions]
    return {
        (word, right, path)
        for word, who in everyone.items()
        for (right, path), number in zip(questions, who.tries(how), strict=True)
        if not number and word not in ("root", "group:root")
    }


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.parametrize("kind", ["here", "tmpfs"])
def test_each_keeps_its_promise(kind: str, accounts: str) -> None:
    with crowd() as everyone:
        for word, may in PROMISES.items():
            with fresh(kind) as top:
                paths = grown(top)
                done = answer(
                    ["set", paths[0], "--arrange", word, "--no-history", *ACCEPT, "--accounts", accounts, "--json"]
                )
                assert done["applied"], (word, done["problems"])
                for folder in paths[:2]:  # what the owner makes later, whatever the umask
                    made = f"{folder}/later"
                    os.close(os.open(made, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o666))
                    set_gid = os.stat(folder).st_mode & 0o2000
                    os.chown(made, USERS[OWNER], -1 if set_gid else GROUPS[PRIMARY[OWNER]])
                    paths.append(made)
                found = tried(everyone, paths)
                for who in everyone:
                    for path in paths:
                        for right in ("read", "write", *(["traverse"] if os.path.isdir(path) else [])):
                            if who in ("root", "group:root"):
                                continue
                            assert ((who, right, path) in found) is may(who, right, path), (word, who, right, path)
                again = answer(["set", paths[0], "--arrange", word, "--preview", "--accounts", accounts, "--json"])
                changing = [one["path"] for one in again["results"] if one["before"] != one["after"]]
                if word != "private":  # which has no default list to make what is made later follow
                    assert [path for path in changing if not path.endswith("/later")] == []
                shown = machine("show", paths[0], "--accounts", accounts)["results"][0]["arrangement"]
                assert shown["name"] == word
                assert (mode_of(f"{top}/t/in/run") & 0o100 != 0) is (not word.startswith(("published", "inbox", "log")))


@pytest.mark.root
def test_drop_box_secret_and_handover(folder: str, accounts: str) -> None:
    os.chmod(folder, 0o755)
    box, key = make(f"{folder}/box", 0o755, directory=True), make(f"{folder}/shut", 0o700, directory=True) + "/key"
    make(key, 0o600)
    words = ("--no-history", *ACCEPT, "--accounts", accounts)
    assert fiat("set", box, "--arrange", "drop-box:steward", *words).returncode == 0
    assert fiat("set", key, "--arrange", "secret:tidefeed", *words).returncode == 0
    with crowd() as everyone:
        os.umask(0o077)
        os.close(os.open(f"{box}/note", os.O_CREAT | os.O_WRONLY, 0o666))
        os.umask(0o022)
        os.chown(f"{box}/note", USERS["keeper"], -1)
        found = tried(everyone, [box, f"{box}/note", key])
    assert {who for who, right, path in found if (right, path) == ("read", f"{box}/note")} == {"keeper", "steward"}
    assert {who for who, right, path in found if (right, path) == ("read", box)} == {"steward"}
    assert {who for who, right, path in found if path == key} == {"tidefeed"}
    assert ("tidefeed", "write", key) not in found
    theirs, others = make(f"{folder}/theirs", 0o644), make(f"{folder}/others", 0o600)
    os.chown(theirs, USERS["keeper"], GROUPS["watch"])
    give_list(theirs, f"u::rw-,u:{USERS['keeper']}:r--,g::r--,m::r--,o::---")
    before = state_of(others)
    assert fiat("set", folder, "--arrange", "handover:keeper,auditor", *words).returncode == 0
    assert (os.stat(theirs).st_uid, os.stat(f"{box}/note").st_uid) == (USERS["auditor"], USERS["auditor"])
    assert str(USERS["keeper"]) not in str(machine("show", theirs, "--accounts", accounts)["results"][0]["acl"])
    assert state_of(others) == before


@pytest.mark.root
def test_where_no_lists_are_kept(accounts: str) -> None:
    with fresh("ramfs") as top:
        make(f"{top}/t", 0o755, directory=True)
        words = ("--no-history", *ACCEPT, "--accounts", accounts)
        done = fiat("set", f"{top}/t", "--arrange", "readers:auditor", *words)
        assert "needs access lists, and this file system keeps none" in done.stderr
        done = fiat("set", f"{top}/t", "--arrange", "team:survey", *words)
        assert "no lists are kept here: what is made later follows the umask" in done.stdout
        assert mode_of(f"{top}/t") == 0o2770


DRAFT = "/srv/skerry/charts/draft"


@pytest.mark.parametrize(
    ("typed", "said"),
    [
        (("set", DRAFT, "--arrange", "team"), "'team': write it as team:GROUP"),
        (("set", DRAFT, "--arrange", "tem:survey"), "'tem' is no arrangement; near is 'team'"),
        (("set", DRAFT, "--arrange", "team:nosuch"), "no group is called 'nosuch'"),
        (("set", DRAFT, "--arrange", "private", "--mode", "700"), "--mode and --arrange both say what is to be"),
        (("set", DRAFT, "--arrange", "secret:keeper"), "is a directory, and secret is for a file"),
        (("set", "--arrange", "list", DRAFT), "--arrange list explains the arrangements, and takes no PATH"),
        (
            ("set", DRAFT, "--arrange", "private", "--arrangements", "/nope"),
            "cannot read '/nope': No such file or directory",
        ),
        (("set", "--arrange", "private"), "what shall be changed? Give one PATH or more"),
    ],
)
def test_what_is_wrong_is_named(typed: tuple[str, ...], said: str) -> None:
    done = fiat(*typed, "--preview", "--from", "skerry")
    assert (said in done.stderr, done.returncode) == (True, 2), done.stderr


OWN = """
[shared-logs]
takes = ["group"]
about = "a group reads logs"
without-lists = "the same"
[shared-logs.directory]
group = "{1}"
mode = "2750"
[shared-logs.file]
group = "{1}"
mode = "u=rw,g=r,o="
"""


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (OWN.replace("mode =", "moed ="), "[shared-logs.directory] has no key 'moed'; near is 'mode'"),
        (OWN.replace("{1}", "{2}", 1), "speaks of somebody whom the arrangement does not take"),
        (OWN.replace("2750", "9750"), "[shared-logs.directory]"),
        (OWN.replace("shared-logs", "team"), "[team] is there already"),
        (OWN.replace('about = "a group reads logs"', ""), "says nothing about itself"),
        (OWN.replace('["group"]', '["goup"]'), "takes 'goup'; these are known"),
        ("[shared-logs", "is no TOML"),
    ],
)
def test_ones_own_that_cannot_be_used(text: str, said: str, tmp_path: Path) -> None:
    (tmp_path / "own.toml").write_text(text)
    words = ("--arrangements", f"{tmp_path}/own.toml", "--preview", "--from", "skerry")
    done = fiat("set", DRAFT, "--arrange", "shared-logs:survey", *words)
    assert (said in done.stderr, done.returncode) == (True, 2), done.stderr


def test_ones_own(tmp_path: Path) -> None:
    (tmp_path / "own.toml").write_text(OWN)
    words = ("--arrangements", f"{tmp_path}/own.toml", "--from", "skerry")
    found = machine("set", DRAFT, "--arrange", "shared-logs:survey", *words, "--preview")["results"]
    assert {one["after"]["mode"] for one in found} == {"2750", "0640"}
    assert {one["after"]["group"]["name"] for one in found} == {"survey"}
    listed = machine("set", "--arrange", "list", *words)["results"]
    assert [one["name"] for one in listed][-1] == "shared-logs"
    assert all(one["about"] and one["source"] for one in listed)


def test_which_one_a_directory_is() -> None:
    (keys,) = machine("show", "/srv/skerry/keys", "--from", "skerry")["results"]
    assert keys["arrangement"] == {
        "name": "private",
        "looked_at": 2,
        "more": False,
        "but_for": None,
        "differing": ["/srv/skerry/keys/gate.key"],
    }
    (box,) = machine("show", "/srv/skerry/dropbox", "--from", "skerry")["results"]
    assert (box["arrangement"]["name"], box["arrangement"]["but_for"]) == ("drop-box:steward", "default list")
    (other,) = machine("show", "/srv/skerry", "--from", "skerry")["results"]
    assert other["arrangement"] is None


def test_what_show_leaves_out_is_none_of_those_that_come_with_fiat() -> None:
    seen = 0
    for one in known_arrangements().values():
        if one.source == "built in" and one.directory.mode is not None:
            assert may_be_arranged(Posture(Kind.DIRECTORY, int(one.directory.mode, 8), 0, 0)), one.name
            seen += 1
    assert seen > 5


@pytest.mark.root
def test_a_bad_file_of_the_machine_hinders_nothing_else(folder: str, monkeypatch: pytest.MonkeyPatch) -> None:
    Path(folder, "arrangements.toml").write_text("[a")
    os.chmod(folder, 0o700)
    monkeypatch.setattr("fiat.host.arrangements._MACHINE", folder)
    status, out, errors = run_here("show", folder)
    assert (status, "0700  rwx------" in out, "is no TOML" in errors) == (0, True, True), (out, errors)
    status, out, errors = run_here("set", folder, "--arrange", "private", "--preview")
    assert (status, out, "is no TOML" in errors) == (2, "", True), (out, errors)
