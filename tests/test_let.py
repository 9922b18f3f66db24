"""Letting and barring: every way carried out, the answer turned, and what was told of it held against the kernel."""

import os
import tempfile
from collections import Counter
from collections.abc import Iterator
from typing import Any

import pytest

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
from support.files import make, set_state, state_of
from support.filesystems import fresh
from support.program import answer, fiat, machine
from support.worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_ESTATES", "4"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
GOALS = 14
"""Wishes in each estate of which the ways are carried out."""

_RIGHTS = ("read", "write", "execute", "traverse", "list", "delete", "append")


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
        # beside its top are other estates, which are not asked about
        questions = [one for one in asked_of(estate) if one[0] in _RIGHTS and one[2] != estate.top]
        tried = 0
        while tried < GOALS:
            verb = estate.dice.choice(("let", "bar"))
            who = estate.dice.choice([*USERS, *USERS, *(f"group:{group}" for group in GROUPS), "anyone-else", "root"])
            right, _, path = estate.dice.choice(questions)
            if ((who, right, path) in before) is (verb == "let") and estate.dice.random() < 0.9:
                continue
            tried += 1
            words = [verb, who, right, path, "--accounts", self.accounts, "--json"]
            (told,) = answer(words)["results"]
            if told["already"] or not told["possible"]:
                self.tally["already" if told["already"] else "impossible"] += 1
                if told["already"] and ((who, right, path) in before) is not (verb == "let"):
                    self.wrong.append(f"{words}: told to be so already")
                continue
            ways = [way for way in told["ways"] if way["membership"] is None]
            for way in [*ways[:1], *estate.dice.sample(ways[1:], min(len(ways) - 1, 2) if ways else 0)]:
                above = {step["path"]: state_of(step["path"]) for step in way["steps"]}  # also above the estate
                self._carry_out(estate, words, who, right, path, way, before)
                bring_back(estate, states)
                for one, state in above.items():
                    if state_of(one) != state:
                        set_state(one, state)

    def _carry_out(
        self, estate: Estate, words: list[str], who: str, right: str, path: str, way: dict[str, Any], before: Any
    ) -> None:
        gives = words[0] == "let"
        done = answer([*words, "--all", "--do", str(way["rank"]), "--no-history", *ACCEPT])
        told = f"{words[:4]} {way['means']} {way['commands']}"
        if done["problems"] or not done["applied"]:
            self.wrong.append(f"{told}: {done['problems']}")
            return
        remember(estate)
        after = having(estate, self.everyone)
        self.tally.update(("carried out", words[0], *way["means"]))
        if ((who, right, path) in after) is not gives:
            self.wrong.append(f"{told}: the answer has not turned")
        changed = ["set", *(step["path"] for step in way["steps"])]
        may_be = counted_on(estate, changed, {"problems": [], "caveats": way["caveats"]})
        for name, one, other in (("gains", before, after), ("losses", after, before)):
            really = [between(one, other, known) for known in may_be]
            if foretold(way[name]) not in really:
                self.wrong.append(
                    f"{told}: {name} {foretold(way[name]) - really[0]} told, {really[0] - foretold(way[name])}"
                )
        if way["means"] == ["entry"] and who in USERS:
            others = {word for word, _, _ in before ^ after} - {who, "root"}
            if others:
                self.wrong.append(f"{told}: {others} gain or lose by an entry for somebody else")
            if way["collateral"]["others"] != {"gains": 0, "losses": 0}:
                self.wrong.append(f"{told}: {way['collateral']}")


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
    assert min(judge.tally[name] for name in ("let", "bar", "entry", "other-bits")) > 3, judge.tally
    print(judge.tally)


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
            "No way. root may not write /mnt/vault/replay: at /mnt/vault/replay it is no mode and no list that "
            "refuses: it is mounted read-only.",
            1,
        ),
        (("let", "auditor", "read", BAROMETER, "--preview"), "Preview: 1 path would change. Nothing is written.", 0),
        (
            ("let", "auditor", "read", BAROMETER, "--by", "entri"),
            "fiat let: 'entri' is no means; near is 'entry'; these are: entry, owner-bits, group-bits, named-group, "
            "other-bits, owning-group, owner, membership",
            2,
        ),
        (
            ("let", "auditor", "read", BAROMETER, "--do"),
            "fiat let: a snapshot cannot be changed; --preview shows what the change would do",
            2,
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
def test_a_way_is_carried_out_and_undone(folder: str) -> None:
    os.chmod(folder, 0o755)
    write_accounts(folder)
    path = make(f"{folder}/key", 0o600)
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
