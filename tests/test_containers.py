"""A host as a container sees it: what is said of its people against these very people, who really try.

FIAT_JUDGE_WORLDS and FIAT_JUDGE_SEED as for the other judges of answers.
"""

import json
import os
import subprocess
from collections import Counter

import pytest

from fiat.core.model import principals
from fiat.core.model.accounts import Group, User
from fiat.core.model.idmap import IdMap, NumberMap
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import ALL, EXECUTE
from fiat.core.model.seenaccounts import SeenAccounts
from fiat.core.model.view import View
from fiat.core.rules.access import Access
from fiat.core.tree.walk import route_for
from fiat.host.live import processes
from fiat.host.live.host import LiveHost
from support.containers import FIRST, POWERS, a_container, entered
from support.filesystems import fresh
from support.judging import SEED, WORLDS, Record, cannot_know, differing
from support.kernel import Subject
from support.places import trusted_folder
from support.program import fiat, machine
from support.trying import how_to_try
from support.worlds import GIDS, UIDS, World, protections

pytestmark = pytest.mark.root

_USERS, _GROUPS = UIDS[0] - 1, GIDS[0] - 1
"""What its numbers 0 are here, where it has its own."""


def account_files(world: World, *, own_numbers: bool) -> dict[str, str]:
    """The accounts of the world by the numbers that the container has for them."""
    first = (_USERS, _GROUPS) if own_numbers else (0, 0)
    users = [
        f"{one.name}:x:{one.uid and one.uid - first[0]}:{one.gid and one.gid - first[1]}::/:/bin/sh"
        for one in world.people.users
    ]
    groups = [f"{one.name}:x:{one.gid - first[1]}:{','.join(one.members)}" for one in world.people.groups]
    return {"passwd": "\n".join(users), "group": "\n".join(groups)}


def disagreements(seed: int, top: str, seen: Counter[str], *, own_numbers: bool) -> list[str]:
    """What Fiat, outside, and people in a container differ about."""
    numbers = (_USERS, _GROUPS, 100) if own_numbers else None
    wrong: list[str] = []
    with World(top, seed) as world:
        os.mkdir(f"{top}/etc")
        for name, text in account_files(world, own_numbers=own_numbers).items():
            with open(f"{top}/etc/{name}", "w") as file:
                file.write(text + "\n")
        with Subject(entered(top, numbers)) as inside:
            host = LiveHost(world.people).view_of(inside.pid)
            everyone = principals.of_each(host.accounts.all_users(), host.accounts)
            judging = Access(Universe(everyone), host.settings)
            asked = []
            for path in (path.removeprefix(top) for path in world.paths):
                for right in ALL:
                    how = how_to_try(right, host, path, changes=False)
                    if how is not None:
                        asked.append((right, path, how, route_for(host, path, right)))
            asked = [one for one in asked if not (one[0] is EXECUTE and cannot_know(one[3]))]
            view = host.accounts.view
            assert view is not None
            for place, who in enumerate(everyone):
                gids = [view.there(gid, users=False) for gid in who.gids]
                there = Principal(
                    "user",
                    None,
                    view.there(who.uid or 0, users=True),
                    frozenset(gid for gid in gids if gid is not None),
                    gid=view.there(who.gid or 0, users=False),
                )
                questions = [(how, path) for _, path, how, _ in asked]
                with Subject(entered(top, numbers, there)) as subject:
                    truth = subject.tries(questions)
                verdicts = [judging.verdict(route, right, place) for right, _, _, route in asked]
                wrong += differing(f"seed {seed}: {who.name} {there.uid}", questions, verdicts, truth)
                for verdict, number in zip(verdicts, truth, strict=True):
                    seen.update(("all", f"errno {number}", verdict.deciding.rule))
    return wrong


@pytest.mark.slow
@pytest.mark.parametrize("own_numbers", [True, False])
def test_its_people_meet_what_is_said(own_numbers: bool, record_property: Record) -> None:
    seen: Counter[str] = Counter()
    with protections():
        for seed in range(SEED, SEED + max(WORLDS // 2, 1)):
            with fresh("here" if seed % 2 else "tmpfs") as top:
                wrong = disagreements(seed, top, seen, own_numbers=own_numbers)
                assert not wrong, f"{len(wrong)} of {seen['all']} wrong, such as {wrong[0]}"
    record_property("compared", seen["all"])
    assert seen["superuser"] > 10


_SAME = NumberMap(((0, 0, 2**32 - 1),))

FAULTS: dict[str, tuple[object, str, object]] = {
    "its root is root of the host": (principals, "within", lambda who, view: who),
    "its numbers are those of the host": (processes, "_numbers", lambda found: IdMap(_SAME, _SAME)),
}


@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_catches(fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(*FAULTS[fault])
    with protections():
        for seed in range(1, 40):
            with fresh("tmpfs") as top:
                if disagreements(seed, top, Counter(), own_numbers=fault.startswith("its numbers")):
                    return
    pytest.fail("no disagreement in 39 containers")


# --- what is said, and kept ------------------------------------------------------------


def test_people_of_the_container_stand_beside_those_of_the_host_with_their_numbers() -> None:
    with trusted_folder() as folder, a_container(own_numbers=False) as there:
        value = machine("who", "/srv/data/team", "--as-seen-by", str(there.pid))
        users = {one["name"]: one for one in value["results"][0]["users"]}
        assert [users[name]["read"] for name in ("root", "svc", "web", "beyond")] == [True, True, True, False]
        here = subprocess.run(["getent", "passwd", "101"], capture_output=True, text=True).stdout.split(":")[0]
        assert users["svc"]["here"] == ([here] if here else [])
        codes = [one["code"] for one in value["caveats"]]
        assert {"as-seen-by", "container-root"} <= {*codes}
        held = f"{folder}/seen.jsonl"
        assert fiat("save", "/srv", "-o", held, "--as-seen-by", str(there.pid)).returncode == 0
        again = machine("who", "/srv/data/team", "--from", held)
        assert json.dumps(again["results"]) == json.dumps(value["results"])
        assert [one["code"] for one in again["caveats"]] == codes


def test_its_own_numbers_are_told_and_what_is_the_hosts_is_nobodys() -> None:
    with trusted_folder() as folder, a_container(own_numbers=True) as there:
        pid = str(there.pid)
        value = machine("who", "/srv/data/own", "--as-seen-by", pid)
        users = {one["name"]: (one["uid"], one["inside"], one["read"]) for one in value["results"][0]["users"]}
        assert users["svc"] == (FIRST + 101, 101, True)
        assert users["web"] == (FIRST + 1001, 1001, False)
        assert "beyond" not in users
        assert any("'beyond'" in one["text"] for one in value["caveats"])
        hosts = fiat("why", "root", "write", "/srv/data/hosts", "--as-seen-by", pid)
        assert (hosts.returncode, "0 of the host (nobody there)" in hosts.stdout) == (1, False)
        shown = fiat("show", "/srv/data/hosts", "--as-seen-by", pid).stdout
        assert "0 of the host (nobody there)" in shown
        assert "no account has" not in shown
        # what could be done is told in words: the paths are not the host's
        refused = fiat("why", "web", "write", "/srv/data/open", "--as-seen-by", pid).stdout
        assert "fiat set" not in refused
        held = f"{folder}/seen.jsonl"
        assert fiat("save", "/srv", "-o", held, "--as-seen-by", pid).returncode == 0
        assert machine("who", "/srv/data/own", "--from", held)["results"] == value["results"]


@pytest.mark.parametrize(
    ("passwd", "status", "says"),
    [
        ("svc\x1b[2J:x:101:101::/:/bin/sh\n", 0, "svc\\x1b[2J"),
        ("svc:x:-1:101::/:/bin/sh\nsvc:x:99999999999:1::/:/bin/sh\n", 0, "anyone else"),
        ("".join(f"u{n}:x:{n}:{n}::/:/bin/sh\n" for n in range(1000, 2900)), 0, "u2000', 'u2001"),
        ("svc:x:101:101::/:/bin/sh\n" * 20, 2, "a name has one account"),
        ("#" * ((16 << 20) + 1), 2, "more than 16 MiB"),
    ],
)
def test_account_files_that_are_hostile_change_nothing_silently(passwd: str, status: int, says: str) -> None:
    with a_container(own_numbers=True, passwd=passwd) as there:
        done = fiat("who", "/srv/data/open", "--as-seen-by", str(there.pid), "--all")
        assert (done.returncode, done.stderr.count("\n")) == (status, 1 if status else 0)
        assert "\x1b" not in done.stdout + done.stderr
        assert says in done.stdout + done.stderr


def test_what_is_no_account_file_is_one_line() -> None:
    with a_container(own_numbers=True) as there:
        os.unlink(f"{there.top}/etc/passwd")
        os.mkfifo(f"{there.top}/etc/passwd")
        done = fiat("who", "/srv/data/open", "--as-seen-by", str(there.pid))
        assert (done.returncode, done.stderr.count("\n")) == (2, 1)
        assert "/etc/passwd" in done.stderr
        os.unlink(f"{there.top}/etc/passwd")
        os.symlink("/../../../../etc/passwd", f"{there.top}/etc/passwd")  # which leads to itself there
        done = fiat("who", "/srv/data/open", "--as-seen-by", str(there.pid))
        assert (done.returncode, "too many levels" in done.stderr.lower()) == (2, True)
    done = fiat("who", "/", "--as-seen-by", "1", "--from", "skerry")
    assert (done.returncode, "does not go with" in done.stderr) == (2, True)
    for words in (
        ("who", "/", "--pid", "1"),
        ("who", "/", "--by-own-means", "--through-programs"),
        ("why", "root", "run", "ls"),
        ("show", "--umask"),
        ("show", "--user", "root"),
        ("save", "/etc", "-o", "/dev/null", "--for-audit"),
    ):
        done = fiat(*words, "--as-seen-by", str(os.getpid()))
        assert (done.returncode, "does not go with" in done.stderr) == (2, True), words
    own = str(os.getpid())
    assert "not processes" in fiat("why", "pid:1", "read", "/", "--as-seen-by", own).stderr
    assert "--elevation FILE" in fiat("who", "/", "--elevated", "--as-seen-by", own).stderr
    assert fiat("who", "/etc/passwd", "--as-seen-by", own).returncode == 0
    assert "no process has the number" in fiat("who", "/", "--as-seen-by", "4194303").stderr


def test_where_nobody_is_root_nobody_has_powers() -> None:
    nobody = View("a made up one", IdMap(NumberMap(((1, 7101, 1),)), NumberMap(((1, 7201, 1),))))
    people = principals.of_accounts(
        SeenAccounts([User("one", 7101, 7201)], [Group("one", 7201)], "it", nobody), {0, 7101}
    )
    assert [who.uid for who in people.principals if who.kind == "user"] == [7101]
    assert not any(who.capabilities for who in people.principals)


def test_powers_that_its_root_has_not_are_not_told_it_has() -> None:
    with a_container(own_numbers=False) as there:
        os.chmod(f"{there.top}/srv/data/hosts", 0)
        pid = str(there.pid)
        assert fiat("why", "root", "read", "/srv/data/hosts", "--as-seen-by", pid).returncode == 0
        assert there.subject.tries([("read", "/srv/data/hosts")]) == [0]
        done = fiat("why", "root", "change-mode", "/srv/data/own", "--as-seen-by", pid)
        assert POWERS
        assert (done.returncode, there.subject.tries([("change-mode", "/srv/data/own")])) == (1, [1])
