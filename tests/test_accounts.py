"""Accounts as access sees them: what they are in, what runs as them, what they own, are named in, reach and leave."""

import contextlib
import json
import os
import signal
from pathlib import Path
from typing import Any

import pytest

from fiat.core.model.listbytes import DEFAULT_XATTR
from support.files import give_list, make
from support.places import trusted_folder
from support.program import fiat, fork, machine, sample

TOP = "/srv/skerry"
NAMES = "root keeper surveyor steward auditor apprentice tidefeed chartpress nobody".split()
GROUPS = "watch survey stewards auditors press relief".split()
RIGHTS = ("read", "write", "execute", "traverse")


def told(*words: str, status: int = 0) -> Any:
    (found,) = machine(*words, "--from", "skerry", status=status)["results"]
    return found


@pytest.mark.parametrize("name", NAMES)
def test_what_a_group_gives_is_what_leaving_it_takes(name: str) -> None:
    """Each group by itself, against the host as it would be without the membership, and without the user at all."""
    account = told("show", "--user", name, TOP)
    (tree,) = account["trees"]
    for group in account["groups"]:
        leaving = ("--if-not-member", f"{name}:{group['gid']}")
        against = machine("who", TOP, "--below", *leaving, "--from", "skerry")["against_today"]
        lost = {one["right"]: one["paths"] for one in against["losses"] if one["who"] == name}
        by_group = {one["right"]: one["paths"] for one in tree["by_group"] if one["group"]["gid"] == group["gid"]}
        assert by_group == {right: lost[right] for right in RIGHTS if lost.get(right)}, group
    for right in RIGHTS:
        (reached,) = [one["paths"] for one in tree["reached"] if one["right"] == right] or [0]
        assert reached == len(listed("who", TOP, "--below", "--can", right, "--user", name))


def listed(*words: str) -> list[str]:
    """Paths as NUL ends them."""
    return [os.fsdecode(path) for path in printed(*words, "--null", "--from", "skerry").split(b"\0")[:-1]]


@pytest.mark.parametrize("name", [*NAMES, *(f"group:{name}" for name in GROUPS)])
def test_what_is_owned_and_named_is_what_a_table_of_the_tree_says(name: str) -> None:
    who = name.removeprefix("group:")
    kind, option = ("group", "--group") if who != name else ("user", "--user")
    found = told("show", option, who, TOP)
    number = found["gid" if kind == "group" else "uid"]
    table = machine("show", TOP, "--below", "--from", "skerry")["results"]
    table += machine("show", TOP, "--from", "skerry")["results"]
    owned = [
        one["path"] for one in table if number == (one["group"]["gid"] if kind == "group" else one["owner"]["uid"])
    ]
    entry = f"{kind}:{number}:"
    named = [
        one["path"] for one in table if any(e.startswith(entry) for e in (one["acl"] or []) + (one["default"] or []))
    ]
    (tree,) = found["trees"]
    assert (tree["owned"]["paths"], tree["named"]["paths"]) == (len(owned), len(named))
    assert set(tree["named"]["topmost"]) <= set(named)
    chosen = listed("show", TOP, "--below", "--with", f"entry-for:{kind}:{who}")
    assert sorted(chosen) == sorted(path for path in named if path != TOP)
    if kind == "user" and name != "root":
        gone = told("who", TOP, "--if-gone", name)
        assert gone["trees"][0]["ownerless"]["paths"] == len(owned)
        assert gone["trees"][0]["entries_for_nobody"]["paths"] == len(named)


def test_what_one_can_and_others_cannot() -> None:
    for one, others in (
        ("keeper", ("surveyor",)),
        ("tidefeed", ("group:watch",)),
        ("steward", ("auditor", "apprentice")),
    ):
        for right in RIGHTS:
            asked = ("who", TOP, "--below", "--can", right, "--user", one)
            words = [word for other in others for word in ("--but-not", other)]
            theirs: set[str] = set()
            for other in others:
                option, name = ("--group", other[6:]) if other.startswith("group:") else ("--user", other)
                theirs |= set(listed("who", TOP, "--below", "--can", right, option, name))
            assert set(listed(*asked, *words)) == set(listed(*asked)) - theirs, (one, others, right)


def test_each_person_has_a_row() -> None:
    """As JSON has it of each path alone."""
    rows = [line.split(",") for line in sample("who", TOP, "--below", "-f", "csv", "--each-person").stdout.splitlines()]
    assert rows[0] == ["path", "kind", "who", "name", "number", *RIGHTS]
    words = {True: "yes", False: "no", None: ""}
    for path in {row[0] for row in rows[1:] if row[1] != "symlink"}:  # of a path alone it is what it leads to
        found = told("who", path)
        mine = {(row[2], row[3], row[4]): row[5:] for row in rows[1:] if row[0] == path}
        for user in found["users"]:
            name = user["name"] or ""
            assert mine["user", name, str(user["uid"])] == [words[user[right]] for right in RIGHTS], (path, user)
        for group in found["groups"]:
            row = mine["group", group["name"] or "", str(group["gid"])]
            assert row == [words[group["alone"][right]] for right in RIGHTS], (path, group)
        assert mine["anyone-else", "", ""] == [words[found["anyone_else"][right]] for right in RIGHTS]


ACCOUNTS = {
    "passwd": "root:x:0:0::/:\nkeeper:x:20001:30001::/home/keeper:/bin/sh\ntwin:x:20001:30009::/:\n",
    "group": "root:x:0:\nwatch:x:30001:ghost\nsurvey:x:30003:keeper\ntwins:x:30009:\n",
}


@pytest.mark.root
def test_a_process_with_other_groups_is_said_first() -> None:
    """It began before a change of memberships; one that has those of either account of its number is none."""
    with trusted_folder() as folder:
        for name, text in ACCOUNTS.items():
            Path(f"{folder}/{name}").write_text(text)
        children = [
            _idle(20001, gid, groups) for gid, groups in ((30001, [30001, 30005]), (30001, [30001, 30003]), (30009, []))
        ]
        try:
            found = machine("show", "--user", "keeper", "--accounts", folder)["results"][0]
            (odd,) = found["processes_with_other_groups"]
            assert odd["processes"] == [children[0]]
            assert [one["gid"] for one in odd["lacks"]] == [30003]
            assert [one["gid"] for one in odd["besides"]] == [30005]
            lines = fiat("show", "--user", "keeper", "--accounts", folder).stdout.splitlines()
            assert f"process {children[0]}: has other groups than the account: not in survey" in lines[0]
            assert found["same_number"] == ["twin"]
            group = machine("show", "--group", "survey", "--accounts", folder)["results"][0]
            assert [one["user"] for one in group["members"]] == ["keeper"]
            assert machine("show", "--group", "watch", "--accounts", folder)["results"][0]["unknown_members"] == [
                "ghost"
            ]
            gone = machine("who", folder, "--if-gone", "keeper", "--accounts", folder)["results"][0]
            assert set(children) <= set(gone["processes"])
            assert [one["name"] for one in gone["emptied"]] == ["watch", "survey"]
            assert gone["own_group"] is None
        finally:
            for child in children:
                os.kill(child, signal.SIGKILL)
                os.waitpid(child, 0)


def _idle(uid: int, gid: int, groups: list[int]) -> int:
    """A process of somebody that does nothing; its number, once it is so."""
    there, here = os.pipe()
    child = os.fork()
    if not child:
        with contextlib.suppress(BaseException):
            os.setgroups(groups)
            os.setgid(gid)
            os.setuid(uid)
            os.write(here, b"x")
            signal.pause()
        os._exit(0)
    os.close(here)
    os.read(there, 1)
    os.close(there)
    return child


@pytest.mark.root
def test_names_that_hold_anything_go_out_and_in_again() -> None:
    with trusted_folder() as folder:
        odd = [f"{folder}/a b", f"{folder}/line\nend", f"{folder}/\udcff\udcfe", f"{folder}/-n"]
        for path in odd:
            make(path, 0o640)
            give_list(path, "user::rw-,user:20001:r--,group::r--,mask::r--,other::---")
        give_list(
            make(f"{folder}/d", 0o750, directory=True),
            "user::rwx,user:20001:r-x,group::r-x,mask::r-x,other::---",
            DEFAULT_XATTR,
        )
        with trusted_folder() as other:
            for words in (("--with", "entry-for:20001"), ("--only", "files")):
                paths = printed("show", folder, "--below", *words, "--null")
                assert {os.fsdecode(path) for path in paths.split(b"\0")[:-1]} == {
                    *odd,
                    *([f"{folder}/d"] if "--with" in words else []),
                }
            Path(f"{other}/list").write_bytes(b"\0".join(map(os.fsencode, odd)))
            shown = machine("show", "--paths-from", f"{other}/list")["results"]
            assert [one["path"] for one in shown] == odd
            Path(f"{other}/one").write_bytes(os.fsencode(odd[1]))
            done = fiat("set", "--paths-from", f"{other}/one", "--null", "--mode", "g+w", "--no-history")
            assert (done.returncode, os.stat(odd[1]).st_mode & 0o020) == (0, 0o020)
            os.chmod(odd[1], 0o640)
            Path(f"{other}/lines").write_bytes(os.fsencode(f"{odd[0]}\n{odd[3]}\n"))
            assert fiat("set", "--paths-from", f"{other}/lines", "--mode", "600", "--no-history").returncode == 0
            assert [os.stat(path).st_mode & 0o070 for path in odd] == [0, 0o040, 0o040, 0]


def printed(*words: str) -> bytes:
    """What is printed, byte for byte."""
    there, here = os.pipe()
    child = fork(words, here, 2)
    os.close(here)
    with os.fdopen(there, "rb") as file:
        data = file.read()
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) in (0, 1)
    return data


def test_a_group_where_a_user_is_meant_is_that_group() -> None:
    for words in (("why", "{}", "read", f"{TOP}/gauge/raw"), ("who", f"{TOP}/gauge/raw", "--user", "{}", "-f", "json")):
        group, plain = (sample(*(word.format(name) for word in words)) for name in ("watch", "group:watch"))
        if words[0] == "who":
            plain = sample("who", f"{TOP}/gauge/raw", "--group", "watch", "-f", "json")
            assert json.loads(group.stdout)["results"] == json.loads(plain.stdout)["results"]
        else:
            assert group.stdout == plain.stdout
        assert "this is about group:watch, membership alone" in group.stderr
    assert sample("why", "user:watch", "read", TOP).returncode == 2


@pytest.mark.root
def test_what_goes_with_an_account_is_its_own_group_and_what_others_have_by_it() -> None:
    """As each of them would lose it by leaving that group."""
    with trusted_folder() as folder:
        Path(f"{folder}/passwd").write_text("root:x:0:0::/:\nkeeper:x:20001:30001::/:\naide:x:20002:30002::/:\n")
        Path(f"{folder}/group").write_text("root:x:0:\nkeeper:x:30001:aide\naide:x:30002:\n")
        top = make(f"{folder}/top", 0o750, directory=True)
        os.chown(make(f"{top}/file", 0o640), 20001, 30001)
        os.chown(top, 20001, 30001)
        gone = machine("who", top, "--if-gone", "keeper", "--accounts", folder)["results"][0]
        (without,) = gone["without_own_group"]
        leaving = machine("who", top, "--below", "--if-not-member", "aide:keeper", "--accounts", folder)[
            "against_today"
        ]
        assert gone["own_group"] == "keeper"
        assert without["losses"] == leaving["losses"]
        assert {(one["who"], one["right"], one["paths"]) for one in without["losses"]} >= {("aide", "read", 2)}
        assert (
            "If its own group keeper goes with it:"
            in fiat("who", top, "--if-gone", "keeper", "--accounts", folder).stdout
        )
