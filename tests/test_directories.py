"""Accounts from a directory server, a real one: who can, against processes that really log in as each and try.

Logging in is initgroups(3) through the module that the distribution has for it; then setgid(2), setuid(2), and trying.
"""

import json
import os
import random
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fiat.core.model.accounts import Group, User
from fiat.core.model.listbytes import ACCESS_XATTR
from support.directory import AT_HAND, Entry, Machine, machine, relay
from support.files import give_list, list_of, make
from support.places import trusted_folder
from support.program import fiat

pytestmark = [
    pytest.mark.root,
    pytest.mark.skipif(not AT_HAND and not os.environ.get("FIAT_TEST_EVERYTHING"), reason="no directory server here"),
]

LOCAL = (
    [User("keeper", 7101, 7201), User("surveyor", 7102, 7202), User("stoker", 7103, 7201)],
    [Group("watch", 7201, ("hand5", "hand9")), Group("survey", 7202), Group("boats", 7400, ("stoker",))],
)
PEOPLE = [
    *(User(f"hand{number}", 20000 + number, 30000 + number % 3) for number in range(12)),
    User("twin", 7101, 30001),  # a second person of the keeper's number
    User("shadow", 20003, 30002),  # and of one in the directory
    User("keeper", 20100, 30000),  # a second keeper: the files come first
]
GROUPS = [
    *(
        Entry(
            f"crew{number}", 30000 + number, [*(f"hand{one}" for one in range(number, 12, 4)), "stoker"][number % 2 :]
        )
        for number in range(5)
    ),
    Entry("fleet", 30100, ["hand3"], ["crew2", "crew4"]),
    Entry("armada", 30101, [], ["fleet"]),
    Entry("boats", 7400, ["hand7", "keeper"]),  # of the name and number of a local one
]
EVERYBODY = ["root", "keeper", "surveyor", "stoker", "twin", "shadow", *(f"hand{number}" for number in range(12))]

TRIES = """
import json, os, pwd, sys
questions = json.loads(sys.argv[1])
def tries(name):
    out, into = os.pipe()
    if os.fork() == 0:
        user = pwd.getpwnam(name)
        os.initgroups(name, user.pw_gid); os.setgid(user.pw_gid); os.setuid(user.pw_uid)
        found = []
        for path in questions["paths"]:
            for flags in (os.O_RDONLY, os.O_WRONLY):
                try: os.close(os.open(path, flags)); found.append(True)
                except PermissionError: found.append(False)
        os.write(into, json.dumps(found).encode()); os._exit(0)
    os.close(into)
    with open(out) as answer: text = answer.read()
    os.wait()
    return json.loads(text)
json.dump({name: tries(name) for name in questions["names"]}, sys.stdout)
"""


def really(there: Machine, paths: list[str]) -> dict[str, list[bool]]:
    """For each person, whether they can read and write each path: each has logged in, and tried."""
    found: dict[str, list[bool]] = json.loads(there.python(TRIES, json.dumps({"names": EVERYBODY, "paths": paths})))
    return found


def files_in(folder: str, seed: int) -> list[str]:
    """Files of all sorts of owners, groups and lists, some behind a directory that is somebody's."""
    of = random.Random(seed)
    gids = [*(entry.gid for entry in GROUPS), 7201, 7202, 31999]
    uids = [0, 7101, 7103, 20003, 20007, 20100]
    paths = []
    for number in range(14):
        home = folder
        if number % 4 == 3:
            home = f"{folder}/room{number}"
            os.mkdir(home, 0o700)
            os.chown(home, of.choice(uids), of.choice(gids))
            os.chmod(home, of.choice((0o710, 0o750, 0o705, 0o701)))
        path = make(f"{home}/file{number}", 0o600)
        os.chown(path, of.choice(uids), of.choice(gids))
        os.chmod(path, of.choice((0o640, 0o660, 0o604, 0o644, 0o600, 0o606)))
        if of.random() < 0.5:
            gid, uid = of.choice(gids), of.choice(uids[1:])
            rights = [of.choice(("r--", "rw-", "---", "-w-")) for _ in range(5)]
            give_list(
                path,
                f"user::rw-,user:{uid}:{rights[0]},group::{rights[1]},group:{gid}:{rights[2]},mask::{rights[3]},"
                f"other::{rights[4]}",
            )
        paths.append(path)
    return paths


def groups_at(path: str) -> set[int]:
    """The groups that own, or are named on, a file and the directory that it is in."""
    found = set()
    for one in (path, os.path.dirname(path)):
        named = (entry.split(":") for entry in (list_of(one) if ACCESS_XATTR in os.listxattr(one) else ()))
        found |= {os.stat(one).st_gid, *(int(gid) for kind, gid, _ in named if kind == "group" and gid)}
    return found


def answers(there: Machine, paths: list[str], *words: str, status: int = 0) -> list[dict[str, dict[str, Any]]]:
    """What ``who`` says of each path, by the names of people."""
    done = fiat("who", *paths, "--json", *words, **there.options())
    assert done.returncode == status, done.stderr
    return [{user["name"]: user for user in one["users"]} for one in json.loads(done.stdout)["results"]]


def compare(said: list[dict[str, dict[str, Any]]], tried: dict[str, list[bool]], *, knows_all: bool) -> int:
    """No answer is wrong; of those that are missing or not known nothing is said. How many are known."""
    known = 0
    for number, users in enumerate(said):
        for name, found in tried.items():
            for right, can in zip(("read", "write"), found[2 * number : 2 * number + 2], strict=True):
                told = users[name][right] if name in users else None
                assert told in (can, None), (number, name, right, told, can)
                assert not knows_all or told is not None, (number, name, right)
                known += told is not None
    return known


@pytest.fixture(scope="module")
def folder_of_files() -> Iterator[str]:
    with trusted_folder() as path:
        yield path


@pytest.mark.parametrize("nested", [False, True])
@pytest.mark.parametrize("enumerates", [True, False])
@pytest.mark.parametrize("switch", ["files ldap", "ldap files", "files [SUCCESS=merge] ldap"])
def test_who_can_is_who_can(folder: str, nested: bool, enumerates: bool, switch: str) -> None:
    """Each way to be known: listed or not, in groups of groups, in local groups of the directory's and the reverse."""
    paths = files_in(folder, hash((nested, enumerates)) % 1000)
    more = [f"nss_nested_groups {'yes' if nested else 'no'}", *([] if enumerates else ["nss_disable_enumeration yes"])]
    primary_groups = {user.name: user.gid for user in PEOPLE}
    users = switch.replace(" [SUCCESS=merge]", "")
    with machine(PEOPLE, GROUPS, LOCAL, f"passwd: {users}\ngroup: {switch}\n", *more) as there:
        tried = really(there, paths)
        said = answers(there, paths)
        compare(said, tried, knows_all=enumerates)
        for number, found in enumerate(said):  # whoever can, and not everybody can, is named, listed or not
            open_to_all = fiat("why", "anyone-else", "read", paths[number], **there.options()).returncode == 0
            for name, can in tried.items():
                # of a directory that lists nobody nothing leads to those whose primary group it is
                primary = not enumerates and primary_groups.get(name) in groups_at(paths[number])
                assert not can[2 * number] or open_to_all or primary or name in found, (name, paths[number])
        for name in ("hand3", "twin", "shadow", "stoker", "keeper"):
            for number in (0, 3, 7):
                status = fiat("why", name, "read", paths[number], **there.options()).returncode
                assert status == (0 if tried[name][2 * number] else 1), (name, paths[number])
        if enumerates:
            assert "no account" not in fiat("show", *paths, **there.options()).stdout


@pytest.mark.parametrize("how", ["server gone", "daemon gone", "server hangs", "slow", "gone in the middle"])
def test_what_is_not_told_is_not_denied(folder: str, how: str) -> None:
    """What is known is answered, what is not is no answer; in time; and it is said."""
    paths = files_in(folder, 7)
    with machine(PEOPLE, GROUPS, LOCAL) as there:
        tried = really(there, paths)
        wait, most = (0.4, sys.maxsize) if how == "slow" else (0.0, 2500)
        with relay(there.port, wait=wait, most=most) as port:
            if how in ("slow", "gone in the middle"):
                there.stop_daemon()
                there.start_daemon(port)
            elif how == "server gone":
                there.stop_server()
            elif how == "daemon gone":
                there.stop_daemon()
            else:
                assert there.server is not None
                there.server.send_signal(19)
            begun = time.monotonic()
            said = answers(there, paths, "--accounts-timeout", "2", status=3)
            took = time.monotonic() - begun
            assert took < 2 + 2, took
            known = compare(said, tried, knows_all=False)
            assert known > 3 * len(paths)
            text = fiat("who", paths[0], "--accounts-timeout", "1", **there.options()).stdout
            assert "not known:" in text
            assert "the source ldap" in text
            if how == "server hangs":
                assert there.server is not None
                there.server.send_signal(18)


def test_once_it_is_there_again_all_is_known(folder: str) -> None:
    paths = files_in(folder, 11)
    with machine(PEOPLE, GROUPS, LOCAL) as there:
        there.stop_daemon()
        answers(there, paths, status=3)
        there.start_daemon()
        compare(answers(there, paths), really(there, paths), knows_all=True)


def test_a_hostile_directory_changes_nothing(folder: str) -> None:
    """Names that are none, numbers that cannot be, comments that would speak to the terminal."""
    odd = [
        User("hand1", 2**32 - 1, 30000),
        User("hand2", 20002, 2**32 - 1),
        User("root", 20900, 30000),
        User("toor", 0, 30000),
        User("a:b", 20901, 30000),
        User("name with blanks", 20902, 30000),
    ]
    crews = [Entry("crew0", 30000, ["hand1", "nobody at all", "toor", "x" * 200]), Entry("root", 30001, ["hand3"])]
    secret = make(f"{folder}/secret", 0o640)
    os.chown(secret, 20002, 30000)
    with machine([*odd, User("hand3", 20003, 30000)], crews, LOCAL) as there:
        names = there.python(
            "import pwd\nprint(*sorted({user.pw_name for user in pwd.getpwall()}), sep=chr(10))"
        ).split("\n")
        (found,) = answers(there, [secret])
        assert found["hand3"]["read"] is True
        assert found["root"]["uid"] == 0
        assert found["toor"]["write"] is True  # who has number 0 may do all
        assert "hand1" not in found
        assert "hand2" not in found
        assert set(found) - {None} <= {*names}
        caveats = json.loads(fiat("who", secret, "--json", **there.options()).stdout)["caveats"]
        (left_out,) = [one["text"] for one in caveats if one["code"] == "accounts-left-out"]
        assert "hand2" in left_out


def test_a_large_directory(folder: str) -> None:
    """Three thousand people, a group of most of them: who is in it by its list, and the others are not."""
    people = [User(f"hand{number}", 20000 + number, 30000 + number % 40) for number in range(3000)]
    crews = [Entry("all", 31000, [f"hand{number}" for number in range(2200)])]
    crews += [Entry(f"crew{number}", 30000 + number, [f"hand{number * 7}"]) for number in range(40)]
    secret = make(f"{folder}/secret", 0o640)
    os.chown(secret, 0, 31000)
    with machine(people, crews, LOCAL) as there:
        (found,) = answers(there, [secret])
        reading = {name for name, user in found.items() if user["read"]}
        assert reading == {"root", *(f"hand{number}" for number in range(2200))}
        text = fiat("who", secret, **there.options()).stdout
        assert "memberships are those that the groups of the source ldap of accounts list" in " ".join(text.split())
        sampled = [f"hand{number}" for number in range(0, 3000, 500)]
        program = TRIES.replace('questions["names"]', json.dumps(sampled))
        tried = json.loads(there.python(program, json.dumps({"names": [], "paths": [secret]})))
        assert {name: can[0] for name, can in tried.items()} == {name: name in reading for name in sampled}


def test_snapshots_keep_the_people_of_the_directory(folder: str) -> None:
    paths = files_in(folder, 3)
    with machine(
        PEOPLE, GROUPS, LOCAL, "passwd: files ldap\ngroup: files ldap\n", "nss_disable_enumeration yes"
    ) as there:
        live = fiat("who", *paths, "--json", **there.options())
        assert fiat("save", folder, "-o", f"{folder}/../kept.fiat", **there.options()).returncode == 0
        held = fiat("who", *paths, "--json", "--from", f"{folder}/../kept.fiat")
        Path(f"{folder}/../kept.fiat").unlink()
    for one, other in zip(json.loads(live.stdout)["results"], json.loads(held.stdout)["results"], strict=True):
        known = {user["name"]: user for user in other["users"]}
        assert all(known[user["name"]] == user for user in one["users"])


def test_the_program_to_look_around_starts() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "support.directory"],
        cwd=Path(__file__).parent,
        env={**os.environ, "SHELL": "/bin/sh"},
        input="id -un surveyor\n",
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stdout == "surveyor\n"


@pytest.mark.parametrize("enumerates", [True, False])
def test_who_is_not_known_is_not_gone(folder: str, enumerates: bool) -> None:
    """A snapshot and this host, where the server lists, answers alone, or is gone: nobody is gone, or new."""
    more = () if enumerates else ("nss_disable_enumeration yes",)
    top = f"{folder}/top"
    os.mkdir(top, 0o755)
    for number, (uid, gid) in enumerate(((20003, 30001), (7103, 30100))):
        os.chown(make(f"{top}/file{number}", 0o640), uid, gid)
    switch = "passwd: files ldap\ngroup: files ldap\n"
    with machine(PEOPLE, GROUPS, LOCAL, switch, *more) as there:
        kept = f"{folder}/kept"
        assert fiat("save", top, "-o", kept, **there.options()).returncode == 0

        def differs() -> Any:
            told = json.loads(fiat("compare", kept, "live", "--json", **there.options()).stdout)
            return told["accounts"], told["gains"], told["losses"]

        assert differs() == ([], [], [])
        there.stop_daemon()
        assert differs() == ([], [], [])
        there.start_daemon(None, *(() if more else ("nss_disable_enumeration yes",)))
        assert differs() == ([], [], [])
