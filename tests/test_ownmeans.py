"""What people can bring about by their own means: each sequence is carried out, on small worlds every other is tried.

A user is whoever this process acts as for the time of one call: the kernel is the judge of each.
"""

import itertools
import os
import random
import shutil
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

import pytest

from fiat.app.hosts import arrive, open_host
from fiat.app.question import Question
from fiat.app.whobelow import who_below
from fiat.core.ask.ownmeans import OwnMeans, OwnStep, own_means
from fiat.core.ask.throughprograms import Programs, RunFile, able
from fiat.core.ask.who import postures_on, universe_of
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.principals import Principal
from fiat.core.model.right import EXECUTE, READ, TRAVERSE, WRITE, Right
from fiat.core.rules.access import Access
from fiat.core.tree.walk import route_for
from fiat.host.live.host import LiveHost
from support.files import change_flags, flags_of, give_list
from support.places import trusted_folder
from support.program import machine

pytestmark = pytest.mark.root

IMMUTABLE, APPEND_ONLY = 0x10, 0x20

USERS = [
    Principal("user", None, uid, frozenset(gids))
    for uid, gids in ((7101, (7201, 7203)), (7102, (7202,)), (7103, (7201,)))
]


class Thing(NamedTuple):
    """One object of a world: its path in it, what it is, and its posture."""

    path: str
    directory: bool
    uid: int
    gid: int
    mode: int
    acl: str = ""
    default: str = ""
    flags: int = 0
    link: str = ""


def world(seed: int, *, small: bool) -> list[Thing]:
    """A few directories and files: most of them plain, of few owners, some sticky, with lists, flags and links."""
    of = random.Random(seed)

    def thing(path: str, directory: bool) -> Thing:
        uid, gid = of.choice((0, 7101, 7101, 7102, 7103)), of.choice((0, 7201, 7202, 7203))
        modes = (0o755, 0o750, 0o700, 0o710, 0o775, 0o770, 0o1777, 0o1770, 0o500, 0o070, 0o077, 0o050)
        mode = (
            of.choice(modes)
            if directory
            else of.choice((0o644, 0o640, 0o600, 0o664, 0o000, 0o060, 0o400, 0o755, 0o711))
        )
        acl = default = ""
        if of.random() < 0.2:
            named, rights = of.choice((7101, 7102, 7103)), of.choice(("rwx", "r-x", "---", "rw-", "--x"))
            acl = f"user::rwx,user:{named}:{rights},group::r-x,mask::rwx,other::{of.choice(('---', 'r-x'))}"
        if directory and of.random() < 0.15:
            default = f"user::{of.choice(('rwx', 'r--', '---'))},group::r-x,other::r-x"
        flags = of.choice((IMMUTABLE, APPEND_ONLY)) if of.random() < 0.08 else 0
        return Thing(path, directory, uid, gid, mode, acl, default, flags)

    found = [thing("a", True), thing("a/b", True), thing("a/b/f", False), thing("a/g", False)]
    if not small:
        found += [thing("a/b/c", True), thing("a/b/c/h", False)]
        if of.random() < 0.5:
            found.append(thing("a/to", False)._replace(link=of.choice(("b", "b/c")), acl="", flags=0))
    return found


def build(top: str, things: list[Thing]) -> None:
    """Make a world at ``top``."""
    for one in things:
        path = f"{top}/{one.path}"
        if one.link:
            os.symlink(one.link, path)
            os.lchown(path, one.uid, one.gid)
            continue
        if one.directory:
            os.mkdir(path)
        else:
            with open(path, "w") as file:
                file.write("#!/bin/true\n")
    for one in reversed(things):  # a flag holds what is in a directory, too
        if one.link:
            continue
        path = f"{top}/{one.path}"
        os.chown(path, one.uid, one.gid)
        os.setxattr(path, _WHICH, one.path.encode())  # a number may be another object's as soon as it is free
        os.chmod(path, one.mode)
        if one.acl:
            give_list(path, one.acl)
        if one.default:
            give_list(path, one.default, "system.posix_acl_default")
        if one.flags:
            change_flags(path, one.flags)


def clear(top: str) -> None:
    """Take the world away."""
    for folder, names, files in os.walk(top):
        for name in (*names, *files):
            path = f"{folder}/{name}"
            if not os.path.islink(path) and flags_of(path):
                change_flags(path, 0)
    for name in os.listdir(top):
        shutil.rmtree(f"{top}/{name}") if os.path.isdir(f"{top}/{name}") else os.unlink(f"{top}/{name}")


@contextmanager
def acting_as(who: Principal) -> Iterator[None]:
    """Have this process be ``who`` for a while, as far as the kernel asks."""
    gids = sorted(who.gids)
    assert who.uid is not None
    os.setgroups(gids)
    os.setresgid(gids[0], gids[0], 0)
    os.setresuid(who.uid, who.uid, 0)
    try:
        yield
    finally:
        os.setresuid(0, 0, 0)
        os.setresgid(0, 0, 0)
        os.setgroups([])


_WHICH = "trusted.fiat-test"
"""An attribute that only root sees (xattr(7)): which object of the world it is."""

WANTS = {READ: os.R_OK, WRITE: os.W_OK, EXECUTE: os.X_OK | os.R_OK, TRAVERSE: os.X_OK}


def has(right: Right, path: str, *, directory: bool) -> bool:
    """Whether who this process acts as has a right at a path, as the kernel says."""
    if directory:  # what is done with names in it goes through it: a link to it is followed on the way
        return os.access(f"{path}/.", WANTS[right] | os.X_OK)
    return os.access(path, WANTS[right])


def carry_out(step: OwnStep) -> None:
    """One step, as one call."""
    if step.call == "chmod":
        bits = sum({"r": 0o400, "w": 0o200, "x": 0o100}[letter] for letter in step.letters)
        os.chmod(step.path, os.stat(step.path).st_mode & 0o7777 | bits)
    elif step.call == "rename":
        os.rename(step.path, step.target)
    elif step.call == "mkdir":
        os.mkdir(step.path)
    else:
        os.close(os.open(step.path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o666))


def ways(top: str, path: str, who: Principal, right: Right) -> list[OwnMeans]:
    host = open_host()
    return own_means(host.settings, who, route_for(host, f"{top}/{path}", right), right)


def rights_on(top: str, path: str) -> tuple[Right, ...]:
    return (WRITE, TRAVERSE) if os.path.isdir(os.path.realpath(f"{top}/{path}")) else (READ, WRITE, EXECUTE)


@pytest.fixture
def top() -> Iterator[str]:
    with trusted_folder() as folder:
        yield folder
        clear(folder)


COUNT = int(os.environ.get("FIAT_JUDGE_MEANS", "200"))


@pytest.mark.parametrize("part", range(4))
def test_each_sequence_can_be_carried_out(top: str, part: int) -> None:
    """On as many worlds as are asked for (2,000 by hand): as that user, each call succeeds, and the right is there."""
    os.umask(0o022)
    done = 0
    for seed in range(part, COUNT, 4):
        things = world(seed, small=False)
        build(top, things)
        for who, one in itertools.product(USERS, things):
            for right in rights_on(top, one.path):
                for way in ways(top, one.path, who, right):
                    path = f"{top}/{one.path}"
                    present, directory = os.stat(os.path.realpath(path)).st_ino, os.path.isdir(os.path.realpath(path))
                    with acting_as(who):
                        for step in way.steps:
                            carry_out(step)
                        assert has(right, path, directory=directory), (seed, who, right, one.path, way)
                    if way.of == "object":
                        assert os.stat(os.path.realpath(path)).st_ino == present
                    done += bool(way.steps)
                    if way.steps:
                        clear(top)
                        build(top, things)
        clear(top)
    assert done > COUNT


Call = tuple[str, ...]


def calls(top: str) -> list[Call]:
    """Every call that there is on what lies in the world now, and on a few names that are free."""
    paths = [f"{folder}/{name}" for folder, names, files in os.walk(top) for name in (*names, *files)]
    folders = [top, *(path for path in paths if os.path.isdir(path))]
    free = [path for folder in folders for name in ("n", "f", "g", "b") if (path := f"{folder}/{name}") not in paths]
    found: list[Call] = []
    for path in paths:
        found += [("chmod", path, "700"), ("chmod", path, "077")]
        found += [("group", path, gid) for gid in ("7201", "7202", "7203")]
        found += [("unlink", path), ("rmdir", path)]
        found += [("rename", path, to) for to in (*paths, *free) if to != path]
        found += [("link", path, to) for to in free]
    return found + [(kind, path) for kind in ("create", "mkdir") for path in free]


def call(one: Call) -> bool:
    """Whether a call succeeds."""
    try:
        kind, path = one[:2]
        if kind == "chmod":
            os.chmod(path, os.stat(path).st_mode & 0o7777 | int(one[2], 8))
        elif kind == "group":
            os.chown(path, -1, int(one[2]))
        elif kind == "unlink":
            os.unlink(path)
        elif kind == "rmdir":
            os.rmdir(path)
        elif kind in ("rename", "link"):
            getattr(os, kind)(path, one[2])
        else:
            carry_out(OwnStep(kind, path))
    except OSError:
        return False
    return True


def seen(top: str) -> dict[str, tuple[str, int, int, int]]:
    """The world as it is: which object has which name (of what is new: none), and its mode, owner and group."""
    found = {}
    for folder, names, files in os.walk(top):
        for name in (*names, *files):
            path = f"{folder}/{name}"
            status = os.lstat(path)
            which = os.getxattr(path, _WHICH).decode() if _WHICH in os.listxattr(path) else ""
            found[path] = which, status.st_mode, status.st_uid, status.st_gid
    return found


class Tried:
    """What a user has reached in a world by any sequence of up to so many calls: rights of objects, and of names."""

    def __init__(self, top: str, things: list[Thing], who: Principal, deep: int) -> None:
        self.top = top
        self.things = things
        self.who = who
        self.objects: set[tuple[Right, str]] = set()
        self.names: set[tuple[Right, str]] = set()
        known: set[object] = set()
        edge: list[tuple[Call, ...]] = [()]
        for depth in range(deep + 1):
            ahead = []
            for sequence in edge:
                state = self._after(sequence)
                if state is None or state in known:
                    continue
                known.add(state)
                self._look()
                if depth == deep:
                    continue
                for one in calls(top):
                    before = seen(top)
                    with acting_as(who):
                        went = call(one)
                    if went:
                        ahead.append((*sequence, one))
                        if seen(top) != before:
                            self._after(sequence)
            edge = ahead
        clear(top)

    def _after(self, sequence: tuple[Call, ...]) -> object:
        clear(self.top)
        build(self.top, self.things)
        for one in sequence:
            with acting_as(self.who):
                if not call(one):
                    return None
        return frozenset(seen(self.top).items())

    def _look(self) -> None:
        state = seen(self.top)
        with acting_as(self.who):
            for path, (which, mode, *_) in state.items():
                for right in (WRITE, TRAVERSE) if stat.S_ISDIR(mode) else (READ, WRITE, EXECUTE):
                    if has(right, path, directory=stat.S_ISDIR(mode)):
                        self.names.add((right, path[len(self.top) + 1 :]))
                        if which:
                            self.objects.add((right, which))


SMALL = int(os.environ.get("FIAT_JUDGE_SMALL", "4"))
DEEP = int(os.environ.get("FIAT_JUDGE_DEEP", "3"))


@pytest.mark.parametrize("seed", range(SMALL))
def test_no_other_sequence_reaches_what_is_said_to_be_out_of_reach(top: str, seed: int) -> None:
    """Every sequence of up to four calls (three, if nothing else is asked for) on two directories and two files."""
    os.umask(0o022)
    things = [one._replace(default="") for one in world(10_000 + seed, small=True)]
    for who in USERS:
        build(top, things)
        said = {
            (right, one.path): [way.of for way in ways(top, one.path, who, right)]
            for one in things
            for right in rights_on(top, one.path)
        }
        clear(top)
        tried = Tried(top, things, who, DEEP)
        for (right, path), of in said.items():
            if right is WRITE and APPEND_ONLY in {one.flags for one in things if one.path == path}:
                continue  # that is opened for adding alone, which access(2) does not tell
            assert "object" in of or (right, path) not in tried.objects, (seed, who, right, path, "object")
            assert of or (right, path) not in tried.names, (seed, who, right, path, "name")


ACCOUNTS = Accounts(
    [User(f"u{who.uid}", who.uid or 0, min(who.gids)) for who in USERS],
    [Group(f"g{gid}", gid, tuple(f"u{who.uid}" for who in USERS if gid in who.gids)) for gid in (7201, 7202, 7203)],
    "the test",
)


@pytest.mark.parametrize("part", range(2))
def test_a_tree_says_what_each_of_its_paths_says(top: str, part: int) -> None:
    """For whole trees it is worked out with sets, on the way down: for each path it is the same."""
    os.umask(0o022)
    for seed in range(20_000 + part, 20_000 + COUNT // 2, 2):
        things = [one for one in world(seed, small=False) if not one.link]
        build(top, things)
        host = LiveHost(ACCOUNTS)
        question = Question(host, rights=[right.name for right in WANTS])
        (route,) = arrive(host, [top])
        found = who_below(question, route, own_means=True)
        paths = dict(found.survey.paths_of(range(len(found.survey))))
        for place, path in paths.items():
            if path == top:
                continue
            key = found.answers.keys[int(found.answers.number[place])]
            for right, bits in zip(found.rights, key, strict=True):
                if bits is None:
                    continue
                having = {who.uid for who in found.universe.members(bits) if who.kind == "user"}
                for who in USERS:
                    alone = own_means(host.settings, who, route_for(host, path, right), right)
                    assert (who.uid in having) == bool(alone), (seed, path, right, who.uid, alone)
        clear(top)


def test_the_calls_are_told() -> None:
    """On the sample host: an owner whose letters give less, one who can replace a folder, and one who can nothing."""
    path = "/srv/skerry/logbook/today.txt"
    (own,) = machine("why", "keeper", "write", path, "--by-own-means", "--from", "skerry")["results"]
    assert own["reachable"] is True
    assert [way["of"] for way in own["own_means"]] == ["object", "name"]
    assert own["own_means"][0]["steps"] == [
        {"call": "chmod", "path": path, "command": f"chmod u+w -- {path}", "as": "keeper"}
    ]
    other = ("why", "keeper", "write", "/srv/skerry/tools/reduce", "--by-own-means", "--from", "skerry")
    (other_way,) = machine(*other)["results"][0]["own_means"]
    assert [step["call"] for step in other_way["steps"]] == ["rename", "mkdir", "create"]
    none = ("why", "tidefeed", "read", "/srv/skerry/keys/lamp.key", "--by-own-means", "--from", "skerry")
    (found,) = machine(*none, status=1)["results"]
    assert found["reachable"] is False
    (everybody,) = machine("who", path, "--by-own-means", "--from", "skerry")["results"]
    through = ("who", "/srv/skerry/keys/lamp.key", "--by-own-means", "--through-programs", "--from", "skerry")
    by_programs = {user["name"]: user["through_programs"] for user in machine(*through)["results"][0]["users"]}
    hop = {"file": "/usr/local/sbin/lamp-check", "by": "table /etc/cron.d/lamp", "account": "root"}
    assert by_programs["apprentice"]["read"] == [hop]
    assert by_programs["auditor"] == {}
    means = {user["name"]: user["own_means"] for user in everybody["users"]}
    assert set(means["keeper"]) == {"write", "execute"}
    assert means["surveyor"] == {}


@pytest.mark.parametrize("part", range(2))
def test_chains_through_programs_lead_there(top: str, part: int) -> None:
    """Each hop is carried out: who can write to what another runs goes on as that one; and nobody else gets there."""
    os.umask(0o022)
    done = 0
    for seed in range(30_000 + part, 30_000 + COUNT * 2, 2):
        things = [one for one in world(seed, small=False) if not one.link]
        build(top, things)
        host = LiveHost(ACCOUNTS)
        files = [RunFile(f"{top}/a/g", 7102, "table g"), RunFile(f"{top}/a/b/f", 7103, "table f")]
        path = f"{top}/a/b/c/h"
        route = route_for(host, path, READ)
        universe = universe_of(ACCOUNTS, postures_on([route]))
        goal = able(Access(universe, host.settings), route, READ)
        chains = Programs(host, universe, files).chains(goal)
        place_of = {who.uid: place for place, who in enumerate(universe.principals) if who.kind == "user"}
        people = {who.uid: who for who in USERS}

        def can(who: Principal, right: Right, where: str, host: LiveHost = host) -> bool:
            return bool(own_means(host.settings, who, route_for(host, where, right), right))

        reached = {who.uid for who in USERS if can(who, READ, path)}
        for _ in files:
            reached |= {who.uid for who in USERS for one in files if one.uid in reached and can(who, WRITE, one.path)}
        for who in USERS:
            place = place_of[who.uid]
            assert (bool(goal >> place & 1) or place in chains) == (who.uid in reached), (seed, who.uid)
            if place not in chains:
                continue
            one = who
            for hop in chains[place]:
                ahead = own_means(host.settings, one, route_for(host, hop.file.path, WRITE), WRITE)
                with acting_as(one):
                    for step in ahead[0].steps:
                        carry_out(step)
                    assert has(WRITE, hop.file.path, directory=False)
                one = people[universe.principals[hop.place].uid]
            last = own_means(host.settings, one, route_for(host, path, READ), READ)
            if last:  # what was put in the place of a folder may have taken the end away with it
                with acting_as(one):
                    for step in last[0].steps:
                        carry_out(step)
                    assert has(READ, path, directory=False), (seed, who.uid, chains[place])
                done += 1
            clear(top)
            build(top, things)
        clear(top)
    assert done > COUNT // 50


@pytest.mark.parametrize("fault", ["fiat.core.rules.checks.STICKY", "fiat.core.ask.treemeans.refused_to_everyone"])
def test_the_judge_finds_a_wrong_rule(top: str, fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where the sticky bit, or flags, hold nobody up, a sequence fails, or a tree says something else."""
    monkeypatch.setattr(fault, 0 if fault.endswith("STICKY") else lambda posture, mount: (0, ""))

    def judged() -> None:
        for part in range(4):
            test_each_sequence_can_be_carried_out(top, part)
        for part in range(2):
            test_a_tree_says_what_each_of_its_paths_says(top, part)

    with pytest.raises((AssertionError, OSError)):
        judged()
    clear(top)
