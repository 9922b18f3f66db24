"""Letting and barring: every way carried out, the answer turned, and what was told of it held against the kernel."""

import os
import re
import shlex
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple

import pytest

from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR
from support.estates import (
    ACCEPT,
    GROUPS,
    USERS,
    Crowd,
    Estate,
    asked_of,
    between,
    bring_back,
    counted_on,
    crowd,
    foretold,
    having,
    keep,
    remember,
    write_accounts,
)
from support.files import PRIVATE_KEY, give_list, list_of, make, set_state, state_of
from support.filesystems import fresh
from support.program import answer, fiat, machine
from support.worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_ESTATES", "4"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
GOALS = 14
"""Wishes in each estate of which the ways are carried out."""

_RIGHTS = ("read", "write", "execute", "traverse", "list", "delete", "append", "change-mode")


@pytest.fixture(scope="module")
def accounts() -> Iterator[str]:
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as folder, protections():
        write_accounts(folder)
        yield folder


class Judge:
    """Carries ways out and compares."""

    def __init__(self, accounts: str, everyone: Crowd) -> None:
        self.accounts = accounts
        self.everyone = everyone
        self.tally: Counter[str] = Counter()
        self.wrong: list[str] = []

    def goals_in(self, estate: Estate) -> None:
        """Some wishes, each with its best ways."""
        remember(estate)
        before, states = having(estate, self.everyone), keep(estate)
        tried = 0
        while tried < GOALS:
            wish = self._wish(estate)
            so = [one in before for one in wish.atoms]
            if (all(so) if wish.gives else not any(so)) and estate.dice.random() < 0.9:
                continue
            tried += 1
            told = answer([*wish.words, "--accounts", self.accounts, "--json"])["results"][0]
            if told["already"] or not told["possible"]:
                self.tally["already" if told["already"] else "impossible"] += 1
                if told["already"] and any(one is not wish.gives for one in so):
                    self.wrong.append(f"{wish.words}: told to be so already")
                continue
            ways = [way for way in told["ways"] if way["membership"] is None]
            for way in [*ways[:1], *estate.dice.sample(ways[1:], min(len(ways) - 1, 2) if ways else 0)]:
                above = {step["path"]: state_of(step["path"]) for step in way["steps"]}  # also above the estate
                self._carry_out(estate, wish, way, before)
                bring_back(estate, states)
                for one, state in above.items():
                    if state_of(one) != state:
                        set_state(one, state)

    @staticmethod
    def _wish(estate: Estate) -> "Wish":
        """A wish for one path, for a tree, or for several people, rights and paths at once."""
        dice = estate.dice
        # beside its top are other estates, which are not asked about
        questions = [(right, path) for right, _, path in asked_of(estate) if right in _RIGHTS and path != estate.top]
        verb = dice.choice(("let", "bar"))
        people = [*USERS, *USERS, *(f"group:{group}" for group in GROUPS), "anyone-else", "root"]
        who, (right, path) = dice.choice(people), dice.choice(questions)
        many = dice.random()
        if many < 0.3 and right != "change-mode":
            path = dice.choice(estate.directories)
            words = [verb, who, right, path, "--below"]
            return Wish(words, verb == "let", [who], [(who, *one) for one in in_tree(estate, right, path)])
        if many < 0.5:
            two, others = dice.sample(list(USERS), 2), [path for one, path in questions if one == right]
            paths = dice.sample(others, min(2, len(others)))
            words = [verb, ",".join(two), right, *paths]
            return Wish(words, verb == "let", two, [(one, right, path) for one in two for path in paths])
        words = [verb, who, right, path]
        return Wish(words, verb == "let", [who], [(who, right, path)])

    def _carry_out(self, estate: Estate, wish: "Wish", way: dict[str, Any], before: Any) -> None:
        done = answer(
            [
                *wish.words,
                "--all",
                "--do",
                str(way["rank"]),
                "--no-history",
                *ACCEPT,
                "--accounts",
                self.accounts,
                "--json",
            ]
        )
        told = f"{wish.words} {way['means']} {way['commands']}"
        missed = sum(short["paths"] for short in way["not_covered"] if short["code"] == "not-covered")
        if not missed and (done["problems"] or not done["applied"]):
            self.wrong.append(f"{told}: {done['problems']}")
            return
        remember(estate)
        after = having(estate, self.everyone)
        self.tally.update(("carried out", wish.words[0], *way["means"], *(["tree"] if wish.below else [])))
        not_so = {path for who, right, path in wish.atoms if ((who, right, path) in after) is not wish.gives}
        if len(not_so) != missed:
            self.wrong.append(f"{told}: the answer has not turned at {not_so}; {way['not_covered']}")
        changed = list(dict.fromkeys((*wish.tops, *(step["path"] for step in way["steps"]))))
        changed = [path for path in changed if not any(path.startswith(f"{top}/") for top in wish.tops)]
        if not wish.below:
            changed = [step["path"] for step in way["steps"]]
        words = ["set", *changed, *(["--below"] if wish.below else [])]
        may_be = counted_on(estate, words, {"problems": [], "caveats": way["caveats"]})
        for name, one, other in (("gains", before, after), ("losses", after, before)):
            really = [between(one, other, known) for known in may_be]
            if foretold(way[name]) not in really:
                self.wrong.append(
                    f"{told}: {name} {foretold(way[name]) - really[0]} told, {really[0] - foretold(way[name])}"
                )
        if {*way["means"]} <= {"entry", "owner-bits"} and {*wish.people} <= {*USERS}:
            numbers = {USERS[who] for who in wish.people}
            moved = {word for word, _, _ in before ^ after} - {*wish.people, "root"}
            others = moved - {name for name, uid in USERS.items() if uid in numbers}  # an entry is for a number
            if others:
                self.wrong.append(f"{told}: {others} gain or lose by an entry for somebody else")
            if not moved and way["collateral"]["others"] != {"gains": 0, "losses": 0}:
                self.wrong.append(f"{told}: {way['collateral']}")


class Wish(NamedTuple):
    """The words of a wish, who it is about, and what is to be so for whom, or not to be so."""

    words: list[str]
    gives: bool
    people: list[str]
    atoms: list[tuple[str, str, str]]

    @property
    def below(self) -> bool:
        return "--below" in self.words

    @property
    def tops(self) -> list[str]:
        return [self.words[3]] if self.below else []


def in_tree(estate: Estate, right: str, top: str) -> list[tuple[str, str]]:
    """The rights and paths that are meant in a tree: those of its own file system."""
    inside = [mount for mount in estate.mounts if mount.startswith(f"{top}/")]
    return [
        (one, path)
        for one, _, path in asked_of(estate)
        if one == right
        and f"{path}/".startswith(f"{top}/")
        and not (right == "delete" and path == top)
        and not any(path.startswith(f"{mount}/") for mount in inside)
    ]


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.parametrize("kind", ["here", "tmpfs"])
def test_every_way_does_what_is_told_of_it(kind: str, accounts: str) -> None:
    with fresh(kind) as top, crowd() as everyone:
        judge = Judge(accounts, everyone)
        for seed in range(SEED, SEED + SEEDS):
            with Estate(top, seed) as estate:
                judge.goals_in(estate)
    assert not judge.wrong, "\n".join(judge.wrong[:20])
    assert judge.tally["carried out"] > SEEDS * GOALS / 2, judge.tally
    assert min(judge.tally[name] for name in ("let", "bar", "entry", "other-bits", "tree")) > 3, judge.tally
    print(judge.tally)


def _made_there(everyone: Crowd, directories: list[str]) -> dict[str, frozenset[tuple[str, str]]]:
    """Who may do what with a file that root makes in each directory with the usual umask, where it can."""
    paths = []
    for directory in directories:
        with suppress(OSError):  # mounted read-only, or immutable
            os.close(os.open(f"{directory}/later", os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o666))
            paths.append(f"{directory}/later")
    found = {path: set[tuple[str, str]]() for path in paths}
    questions = [(right, path) for path in paths for right in ("read", "write")]
    for word, who in everyone.items():
        for (right, path), number in zip(questions, who.tries(questions), strict=True):
            if not number:
                found[path].add((word, right))
    for path in paths:
        with suppress(OSError):  # in a directory that only grows
            os.unlink(path)
    return {path: frozenset(some) for path, some in found.items()}


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.parametrize("kind", ["here", "tmpfs"])
def test_what_is_made_later_follows(kind: str, accounts: str) -> None:
    judged = 0
    with fresh(kind) as top, crowd() as everyone:
        for seed in range(SEED, SEED + SEEDS):
            with Estate(top, seed) as estate:
                states = keep(estate)
                for _ in range(GOALS // 2):
                    verb, who = estate.dice.choice(("let", "bar")), estate.dice.choice(list(USERS))
                    right, path = estate.dice.choice(("read", "write")), estate.dice.choice(estate.directories)
                    inside = [mount for mount in estate.mounts if mount.startswith(f"{path}/")]
                    tree = [
                        one
                        for one in estate.directories
                        if f"{one}/".startswith(f"{path}/")
                        and not any(f"{one}/".startswith(f"{mount}/") for mount in inside)
                    ]
                    above = {one: state_of(one) for one in _above(path)}
                    before = _made_there(everyone, tree)
                    words = [verb, who, right, path, "--below", "--and-new", "--by", "entry", "--by", "owner-bits"]
                    done = answer([*words, "--do", "--no-history", *ACCEPT, "--accounts", accounts, "--json"])
                    if done.get("applied"):
                        for one, could in _made_there(everyone, tree).items():
                            judged += 1
                            told = f"{words} {one}"
                            assert ((who, right) in could) is (verb == "let"), told
                            moved = {word for word, _ in could ^ before[one]}
                            assert moved <= {name for name in USERS if USERS[name] == USERS[who]}, (told, moved)
                    bring_back(estate, states)
                    for one, state in above.items():
                        if state_of(one) != state:
                            set_state(one, state)
    assert judged > SEEDS * 5


def _above(path: str) -> Iterator[str]:
    while path != "/":
        path = os.path.dirname(path)
        yield path


@pytest.mark.root
@pytest.mark.slow
def test_exactly_what_is_meant_for_a_group(accounts: str) -> None:
    judged = 0
    with fresh("here") as top, crowd() as everyone:
        for seed in range(SEED, SEED + SEEDS * 2):
            with Estate(top, seed) as estate:
                remember(estate)
                before, states = having(estate, everyone), keep(estate)
                for _ in range(GOALS):
                    group, right = estate.dice.choice(list(GROUPS)), estate.dice.choice(("read", "write"))
                    path = estate.dice.choice(estate.files)
                    words = ["let", f"group:{group}", right, path, "--exact", "--by", "entry", "--by", "group-bits"]
                    above = {one: state_of(one) for one in _above(path)}
                    done = answer([*words, "--do", "--no-history", *ACCEPT, "--accounts", accounts, "--json"])
                    if done.get("applied") and {step["path"] for step in done["results"][0]["ways"][0]["steps"]} == {
                        path
                    }:
                        remember(estate)
                        goal = {right, "append", "create"} if right == "write" else {right}
                        if right == "read" and Path(path).read_bytes()[:2] == b"#!":
                            goal.add("execute")  # who had x already lacked only this
                        more = {one for one in having(estate, everyone) - before if one[2] == path}
                        assert {one for _, one, _ in more} <= goal, (words, more)
                        judged += bool(more)
                    bring_back(estate, states)
                    for one, state in above.items():
                        if state_of(one) != state:
                            set_state(one, state)
    assert judged > SEEDS


# --- as it is typed, on the sample host ----------------------------------------------------

BAROMETER = "/srv/skerry/observatory/2026/november/barometer.csv"
SAMPLE = ("--from", "skerry")


@pytest.mark.parametrize(
    ("typed", "first", "status"),
    [
        (
            ("let", "auditor", "read", BAROMETER),
            f"auditor may not read {BAROMETER}. 6 ways to let them, the best first:",
            0,
        ),
        (("let", "keeper", "r", BAROMETER), f"Already so. keeper may read {BAROMETER}.", 0),
        (
            ("bar", "root", "read", BAROMETER),
            f"No way. root may read {BAROMETER}: root is a superuser: no mode and no list keeps out who may change "
            "them.",
            1,
        ),
        (
            ("let", "root", "write", "/mnt/vault/replay"),
            "No way. root may not write /mnt/vault/replay: not modes and lists refuse it at /mnt/vault/replay, but "
            "this: it is mounted read-only.",
            1,
        ),
        (("let", "auditor", "read", BAROMETER, "--preview"), "Preview: 1 path would change. Nothing is written.", 0),
        (
            ("let", "auditor", "read", BAROMETER, "--by", "entri"),
            "fiat let: 'entri' is no means; near is 'entry'; these are: entry, owner-bits, group-bits, named-group, "
            "other-bits, owning-group, sticky, owner, membership",
            2,
        ),
        (
            ("let", "auditor", "read", BAROMETER, "--do"),
            "fiat let: a snapshot cannot be changed; --preview shows what the change would do",
            2,
        ),
        # what runs a script is others' too: it is the script that is barred
        (
            ("bar", "surveyor", "execute", "/srv/skerry/tools/reduce"),
            "surveyor may execute /srv/skerry/tools/reduce. 1 way to bar them from it:",
            0,
        ),
        (("bar", "keeper", "read", "/nope"), "fiat bar: cannot look at '/nope': No such file or directory", 2),
    ],
)
def test_what_is_meant(typed: tuple[str, ...], first: str, status: int) -> None:
    done = fiat(*typed, *SAMPLE)
    assert ((done.stdout or done.stderr).splitlines()[0], done.returncode) == (first, status)


def test_ways_in_json() -> None:
    (one,) = machine("let", "auditor", "read", BAROMETER, *SAMPLE)["results"]
    assert (one["already"], one["possible"], one["why_not"]) == (False, True, None)
    best = one["ways"][0]
    assert best["commands"] == ["fiat set /srv/skerry/observatory --entry user:auditor:--x --from skerry"]
    assert best["means"] == ["entry"]
    assert best["collateral"]["others"] == {"gains": 0, "losses": 0}
    assert [step["after"]["mode"] for step in best["steps"]] == ["0750"]
    assert {(gain["who"], gain["right"]) for gain in best["gains"]} >= {("auditor", "read"), ("auditor", "traverse")}
    membership = next(way for way in one["ways"] if way["membership"])
    assert membership["membership"] == {"user": "auditor", "group": "watch"}
    assert membership["commands"] == membership["steps"] == []


@pytest.mark.root
@pytest.mark.parametrize(("kind", "most"), [("tmpfs", 8191), ("xfs", 5461)])
def test_a_list_that_does_not_fit(kind: str, most: int, accounts: str) -> None:
    with fresh(kind) as top:
        path = make(f"{top}/full", 0o640)
        named = ",".join(f"u:{50000 + number}:r--" for number in range(most - 4))
        give_list(path, f"u::rw-,{named},g::r--,m::r--,o::---")
        with pytest.raises(OSError, match="Argument list too long"):
            give_list(path, f"u::rw-,{named},u:9:r--,g::r--,m::r--,o::---")
        done = fiat("let", "auditor", "read", path, "--by", "entry", "--accounts", accounts)
        assert done.returncode == 1
        assert f"its list would have {most + 1:,} entries, more than fit" in done.stdout
        done = fiat("set", path, "--entry", "auditor:r", "--accounts", accounts, "--no-history")
        assert (done.returncode, "Argument list too long" in done.stderr) == (3, True), done.stderr
        assert fiat("let", "auditor", "read", path, "--accounts", accounts).returncode == 0


@pytest.mark.root
def test_what_only_an_owner_may(folder: str, accounts: str) -> None:
    os.chmod(folder, 0o755)
    os.mkdir(f"{folder}/box")
    os.chmod(f"{folder}/box", 0o1777)
    path, *_ = [make(f"{folder}/box/{name}", 0o644) for name in ("one", "two", "three", "four")]
    carried = ("--accounts", accounts, "--do", "--no-history", "--accept", "from-root")
    for command, right in (("let", "change-mode"), ("bar", "change-mode"), ("let", "delete")):
        told = machine(command, "auditor", right, path, *carried)
        assert told["results"][0]["ways"][0]["means"] == ["owner"], (command, right)
        assert os.stat(path).st_uid == (USERS["auditor"] if command == "let" else 0), (command, right)
    done = fiat("let", "group:watch", "change-mode", path, "--accounts", accounts)
    assert (done.returncode, "only the owner" in done.stdout) == (1, True), done.stdout


@pytest.mark.root
@pytest.mark.parametrize(
    ("command", "who", "mode", "before", "after"),
    [
        ("let", "group:survey", 0o1770, {"root", "keeper"}, {"root", "keeper", "surveyor", "steward", "tidefeed"}),
        ("let", "steward", 0o1775, {"root"}, {"root", "surveyor", "steward", "tidefeed"}),
        ("let", "steward,tidefeed", 0o1770, {"root"}, {"root", "surveyor", "steward", "tidefeed"}),
        ("bar", "steward", 0o770, {"root", "surveyor", "steward", "tidefeed"}, {"root"}),
        ("bar", "steward", 0o777, {*USERS, "root"}, {"root", "keeper"}),
    ],
)
def test_the_sticky_bit_alone_lets_and_bars_what_it_decides(
    folder: str, accounts: str, command: str, who: str, mode: int, before: set[str], after: set[str]
) -> None:
    """Who may remove a name of keeper's in a directory of root's and survey's, as the kernel has it."""
    os.chmod(folder, 0o755)
    box = make(f"{folder}/box", mode, directory=True)
    os.chown(box, 0, GROUPS["survey"])
    os.chmod(box, mode)
    path = make(f"{box}/plan", 0o644)
    os.chown(path, USERS["keeper"], -1)
    if not mode & 0o007:
        before, after = before - {"keeper"}, after - {"keeper"}
    with crowd() as everyone:

        def may_delete() -> set[str]:
            found = set()
            for word in (*USERS, "root"):
                if not everyone[word].tries([("delete", path)])[0]:
                    found.add(word)
                    os.chown(make(path, 0o644), USERS["keeper"], -1)
            return found

        assert may_delete() == before
        told = machine(command, who, "delete", path, "--by", "sticky", "--accounts", accounts, "--do", "--no-history")
        assert [way["means"] for way in told["results"][0]["ways"]] == [["sticky"]]
        assert may_delete() == after
        moved = {one["who"] for one in told["results"][0]["ways"][0]["gains" if command == "let" else "losses"]}
        assert moved & {*USERS, "root"} == before ^ after


@pytest.mark.root
def test_a_way_is_carried_out_and_undone(folder: str) -> None:
    os.chmod(folder, 0o755)
    write_accounts(folder)
    path = make(f"{folder}/key", 0o600, text=PRIVATE_KEY)
    where = ("--accounts", folder, "--history", f"{folder}/h.db")
    done = fiat("let", "keeper", "read", path, "--do", *where)
    assert done.returncode == 4
    assert "refused by guard shows-group-bits: " in done.stderr
    assert "0600 becomes 0640" in done.stderr
    before = state_of(path)
    done = fiat("let", "keeper", "read", path, "--do", "--accept", "shows-group-bits", *where)
    assert (done.returncode, done.stdout.partition("\n")[0]) == (0, "1 path changed.")
    assert fiat("why", "keeper", "read", path, "--accounts", folder).returncode == 0
    assert fiat("bar", "keeper", "read", path, "--do", *where).returncode == 0
    assert fiat("why", "keeper", "read", path, "--accounts", folder).returncode == 1
    for run in ("2", "1"):
        assert fiat("undo", run, *where[2:]).returncode == 0
    assert state_of(path) == before


@pytest.mark.root
@pytest.mark.parametrize("right", ["create", "write"])
def test_the_command_lines_of_a_way_do_the_same_for_what_is_made_later(folder: str, right: str) -> None:
    os.chmod(folder, 0o755)
    write_accounts(folder)
    by_way, by_lines = (make(f"{folder}/{name}", 0o750, directory=True) for name in ("one", "two"))
    where = ("--accounts", folder, "--no-history")
    (told,) = machine("let", "keeper", right, by_lines, "--and-new", *where[:2])["results"]
    for line in told["ways"][0]["commands"]:
        assert re.search(r" --(entry|default-entry|mode)\b", line), line
        assert fiat(*shlex.split(line)[1:], "--no-history").returncode == 0, line
    assert fiat("let", "keeper", right, by_way, "--and-new", "--do", "1", *where).returncode == 0
    lists = [[list_of(path, name) for name in (ACCESS_XATTR, DEFAULT_XATTR)] for path in (by_way, by_lines)]
    assert lists[0] == lists[1]
    assert lists[0][1]


@pytest.mark.root
def test_nobody_is_told_to_join_a_number_that_is_no_groups(folder: str) -> None:
    os.chmod(folder, 0o755)
    write_accounts(folder)
    path = make(f"{folder}/file", 0o640)
    give_list(path, f"user::rw-,group:{GROUPS['survey']}:r--,group:65001:r--,group::---,mask::r--,other::---")
    (told,) = machine("let", "auditor", "read", path, "--accounts", folder)["results"]
    joined = [way["membership"]["group"] for way in told["ways"] if way["membership"]]
    assert joined == ["survey"]
