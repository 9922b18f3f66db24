"""Gains and losses that a plan foretells, against the kernel's own answers for everyone before and after."""

import json
import os
import shutil
import stat
import sys
import tempfile
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from random import Random
from typing import Any

import numpy as np
import pytest

import fiat
from fiat.core.ask import effects, pathsbehind
from fiat.core.change import counting
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import ALL, BASIC, CHANGE_OWNER, Right, right_named
from fiat.core.model.route import Route
from fiat.core.rules import checks, difference
from fiat.core.rules.access import Access
from fiat.core.rules.checks import Verdict
from fiat.core.tree.assembly import Assembly
from fiat.core.tree.postures import PosturesOfMany
from fiat.core.tree.profiles import Columns
from fiat.core.tree.survey import Numbers, Survey
from fiat.core.tree.walk import route_for
from support.estates import (
    ACCEPT,
    USERS,
    Crowd,
    Estate,
    Having,
    Shifts,
    asked_of,
    between,
    bring_back,
    counted_on,
    crowd,
    foretold,
    having,
    is_shut,
    keep,
    people,
    remember,
    topmost,
    write_accounts,
)
from support.filesystems import fresh
from support.kernel import as_somebody
from support.overlaid import overlay
from support.program import answer, run_here
from support.worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_ESTATES", "16"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
KINDS = ("here", "tmpfs")
PLANS = 6
"""Changes made in each estate, one after the other."""

RULES = (
    "owner",
    "named-user",
    "owning-group",
    "named-group",
    "other",
    "superuser",
    "sticky",
    "owner-only",
    "owner-in-other-group",
    "superuser-only",
)
"""What must have decided often enough."""

Told = dict[str, Any]


class Judge:
    """Makes changes in estates, as root and as others, and compares what was foretold with what the kernel grants."""

    def __init__(self, accounts: str, everyone: Crowd) -> None:
        self.accounts = accounts
        self.everyone = everyone
        self.people = people()
        self.tally: Counter[str] = Counter()
        self.wrong: list[str] = []

    def changes_in(self, estate: Estate, plans: int = PLANS) -> None:
        """Make some changes, each judged."""
        remember(estate)
        first = before, asked = having(estate, self.everyone), set(asked_of(estate))
        states = keep(estate)
        for _ in range(plans):
            actor = estate.dice.choice(("root", estate.dice.choice(["root", *estate.owners()])))
            words = ["set", *estate.plan(None if actor == "root" else USERS[actor])]
            told = self._run(actor, [*words, "--preview"])
            if not told:
                continue  # what it is to be like may not be looked at
            done = self._run(actor, words)
            if told["problems"] != done["problems"]:
                self._differs(estate, actor, words, f"problems foretold {told['problems']}, met {done['problems']}")
            remember(estate)
            after, again = having(estate, self.everyone), set(asked_of(estate))
            self._count(before, after, asked | again, estate.dice)
            self._compare(estate, actor, words, told, before, after)
            before, asked = after, again
            if estate.dice.random() < 0.7:  # what is closed has little to lose
                bring_back(estate, states)
                before, asked = first

    def _run(self, actor: str, words: list[str]) -> Told:
        line = [*words, "--accounts", self.accounts, "--format", "json", "--no-history", *ACCEPT]
        if actor == "root":
            return _answer_or_nothing(line)
        return as_somebody(self.people[actor], lambda: _answer_or_nothing(line))

    def _count(self, before: Having, after: Having, asked: set[tuple[str, str, str]], dice: Random) -> None:
        """How much was compared; and what decides, for all that changed and a part of the rest."""
        self.tally["compared"] += len(asked) * len(self.everyone)
        rules = Rules(fiat.open_host(accounts=self.accounts), self.people)
        changed = before ^ after
        some = {(who, right, path) for right, _, path in asked for who in self.everyone if dice.random() < 0.08}
        for who, right, path in changed | some:
            verdict = rules.verdict(who, right, path)
            self.tally.update((f"{right} compared", verdict.deciding.rule))
            if (who, right, path) in changed:
                self.tally.update(("changed", right))
            if verdict.allowed != ((who, right, path) in after):
                self.wrong.append(f"{who} {right} {path}: Fiat says {verdict.allowed} by {verdict.deciding.rule}")

    def _compare(self, estate: Estate, actor: str, words: list[str], told: Told, before: Having, after: Having) -> None:
        may_be = counted_on(estate, words, told)
        codes = {caveat["code"] for caveat in told["caveats"]}
        unsure = {right for code, right in (("unknown", "execute"), ("overlay", "rename")) if code in codes}
        for name, one, other in (("gains", before, after), ("losses", after, before)):
            said = without(unsure, foretold(told[name]))
            real = [without(unsure, between(one, other, paths)) for paths in may_be]
            if said not in real:
                text = f"{name}: said {dict(said - real[0])}, really {dict(real[0] - said)}"
                self._differs(estate, actor, words, text)
                continue
            there = topmost(one, other, may_be[real.index(said)])
            for shift in told[name]:
                named, really = set(shift["topmost"]), there.get((shift["who"], shift["right"]), set())
                if shift["right"] not in unsure and (not named <= really or len(named) + shift["more"] != len(really)):
                    who, more = f"{shift['who']} {shift['right']}", shift["more"]
                    text = f"{name}: {who}: named {sorted(named)} and {more} more, really {sorted(really)}"
                    self._differs(estate, actor, words, text)
        elsewhere = frozenset(one for one in before ^ after if one[2] not in may_be[0])
        if not only_as_documented(estate, elsewhere, may_be[0], told):
            self._differs(estate, actor, words, f"elsewhere: {sorted(elsewhere)[:5]}")

    def _differs(self, estate: Estate, actor: str, words: list[str], text: str) -> None:
        self.wrong.append(f"{estate.top}, as {actor}: fiat {' '.join(words)}: {text}")


def _answer_or_nothing(line: list[str]) -> Told:
    """The answer; nothing where the command line cannot be meant: like what is in it, or may not be looked at."""
    status, printed, errors = run_here(*line)
    if printed:
        return dict(json.loads(printed))
    assert status == 2, errors
    return {}


def without(rights: set[str], shifts: Shifts) -> Shifts:
    """What does not hang on what the one who acts may not see: contents of files, layers of an overlay."""
    return Counter({(who, right): paths for (who, right), paths in shifts.items() if right not in rights})


class Rules:
    """What decides, on a host as it is now."""

    def __init__(self, host: fiat.Host, everyone: dict[str, Principal]) -> None:
        self.host = host
        self.access = {word: Access(Universe([who]), host.settings) for word, who in everyone.items()}
        self.routes: dict[tuple[str, str], Route] = {}

    def verdict(self, who: str, right: str, path: str) -> Verdict:
        asked = right_named(right)
        route = self.routes.get((right, path))
        if route is None:
            route = self.routes[right, path] = route_for(self.host, path, asked)
        return self.access[who].verdict(route, asked, 0)


def only_as_documented(estate: Estate, elsewhere: Having, meant: set[str], told: Told) -> bool:
    """Whether what differs elsewhere is what Fiat leaves out, and says so.

    That is further names, what is mounted in a tree and not entered, and
    scripts that run with what changed.
    """
    codes = {caveat["code"] for caveat in told["caveats"]}
    inodes = {os.lstat(path).st_ino for path in meant}
    for _, right, path in elsewhere:
        name = "names-not-counted" in codes and os.lstat(path).st_ino in inodes and path in estate.files
        mounted = any(path.startswith(f"{mount}/") for mount in estate.mounts)
        if is_shut(path, told):
            continue
        if not (right == "execute" or name or (mounted and codes & {"mounts-not-counted", "mounts-left-out"})):
            return False
    return True


@contextmanager
def judging() -> Iterator[Judge]:
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as accounts, protections(), crowd() as everyone:
        os.chmod(accounts, 0o755)
        write_accounts(accounts)
        # others may not be able to load anything
        answer(["set", accounts, "--below", "--mode", "o+x", "--preview", "--accounts", accounts, "--format", "json"])
        yield Judge(accounts, everyone)


@pytest.mark.slow
@pytest.mark.root
@pytest.mark.parametrize("kind", KINDS)
def test_gains_and_losses_are_the_kernels(kind: str, record_property: Callable[[str, object], None]) -> None:
    with judging() as judge, fresh(kind) as top:
        for seed in range(SEED, SEED + SEEDS):
            with Estate(top, seed) as estate:
                judge.changes_in(estate)
    tally = judge.tally
    for name, count in tally.items():
        record_property(name, count)
    assert not judge.wrong, f"{len(judge.wrong)} wrong:\n" + "\n".join(judge.wrong[:20])
    share = SEEDS / 16 / len(KINDS)  # of what a usual run reaches on all file systems
    assert tally["compared"] >= 1_000_000 * share, tally
    assert tally["changed"] >= 20_000 * share, tally
    for name in (*RULES, *(f"{right.name} compared" for right in ALL), *(right.name for right in ALL)):
        assert tally[name] >= 500 * share or name == CHANGE_OWNER.name, (name, tally)  # root's, whatever changes


def made_anew(estate: Estate) -> None:
    """Put copies in place of some files, just like them: these are on the upper layer from the start."""
    for path in estate.files[::3]:
        what = os.lstat(path)
        held = not {path, os.path.dirname(path)}.isdisjoint(estate.flagged)
        if not held and stat.S_ISREG(what.st_mode) and what.st_nlink == 1:
            shutil.copy2(path, f"{path}.new")
            os.chown(f"{path}.new", what.st_uid, what.st_gid)
            os.chmod(f"{path}.new", what.st_mode)
            os.rename(f"{path}.new", path)


@pytest.mark.slow
@pytest.mark.root
@pytest.mark.parametrize("options", ["", "index=on", "redirect_dir=on", "xino=on"])
@pytest.mark.parametrize("upper", ["here", "another"])
def test_gains_and_losses_on_an_overlay(upper: str, options: str) -> None:
    """On one whose layers are on one file system, and on one where files of the two have the same numbers."""
    with judging() as judge, fresh("tmpfs") as top, fresh("tmpfs") as elsewhere:
        lower, above = f"{top}/lower", top if upper == "here" else elsewhere
        for seed in range(SEED + 8000, SEED + 8000 + max(SEEDS // 4, 1)):
            os.mkdir(lower, 0o755)
            with Estate(lower, seed, whole=True) as estate, overlay(lower, above, options):
                made_anew(estate)
                judge.changes_in(estate)
            for path in (lower, f"{above}/upper", f"{above}/work"):
                shutil.rmtree(path)
    assert not judge.wrong, f"{len(judge.wrong)} wrong:\n" + "\n".join(judge.wrong[:20])
    assert judge.tally["changed"] > 100, judge.tally


@pytest.mark.slow
@pytest.mark.root
def test_two_targets_with_mounts_in_both(monkeypatch: pytest.MonkeyPatch) -> None:
    """Trees that hold mounts, and a mount of one in the other's: several of them in one plan, mounts crossed."""

    def plan(estate: Estate, owner: int | None = None) -> list[str]:
        del owner
        holding = [one for one in estate.directories if any(mount.startswith(f"{one}/") for mount in estate.mounts)]
        targets = [estate.dice.choice(holding or estate.directories), estate.dice.choice([*holding, *estate.mounts])]
        return [*dict.fromkeys(targets), "--below", "--across-mounts", *estate._change(True)]

    monkeypatch.setattr(Estate, "plan", plan)
    with judging() as judge, fresh("tmpfs") as top:
        for seed in range(SEED + 7000, SEED + 7000 + SEEDS // 2):
            with Estate(top, seed) as estate:
                if estate.mounts:
                    judge.changes_in(estate, 4)
    assert not judge.wrong, f"{len(judge.wrong)} wrong:\n" + "\n".join(judge.wrong[:20])
    assert judge.tally["changed"] > 100, judge.tally


# --- the judge can fail ------------------------------------------------------------


def twice(assembly: Assembly, columns: Columns) -> Numbers:
    """The profile of the top again, where an entry has the same."""
    first = len(assembly.profiles)
    assembly.profiles.extend(columns)
    return np.arange(first, len(assembly.profiles), dtype=np.int32)


def colliding(postures: PosturesOfMany, survey: Survey, supposed: Numbers) -> Survey:
    """New profiles numbered by how many distinct ones there are."""
    known = {profile: number for number, profile in enumerate(survey.profiles)}
    profiles, chosen = list(survey.profiles), survey.profile.copy()
    for place in np.flatnonzero(supposed >= 0).tolist():
        new = profiles[chosen[place]]._replace(posture=postures._postures[supposed[place]])
        if new not in known:
            number = len(known)
            profiles.append(new)
            same_kind = profiles[number].posture.directory == new.posture.directory
            known[new] = number if same_kind else len(profiles) - 1
        chosen[place] = known[new]
    return survey.with_profiles(profiles, chosen)


_newly = difference._newly


def basic_rights_alone(one: effects.Sets, other: effects.Sets) -> dict[Right, int]:
    return {right: bits for right, bits in _newly(one, other).items() if right in BASIC}


_topmost = pathsbehind.topmost_paths


def every_path(found: Iterable[pathsbehind.Entries | str], most: int) -> pathsbehind.TopmostPaths:
    """All of them, each as if it stood alone."""
    apart = [
        one if isinstance(one, str) else [one.survey.path(place) for place in one.places.tolist()] for one in found
    ]
    return _topmost([path for one in apart for path in ([one] if isinstance(one, str) else one)], most)


def of_anybody(self: effects.PathsBehind, wanted: Iterable[tuple[str, str]]) -> list[tuple[Right, int]]:
    """What anybody gained."""
    names = {name for _, name in wanted}
    return [(right, bits) for right, sets in self._where.items() if right.name in names for bits in sets]


FAULTS: dict[str, list[tuple[object, str, object]]] = {
    "a profile that is there twice": [
        (Assembly, "new_numbers", twice),
        (PosturesOfMany, "_replaced", colliding),
    ],
    "four rights alone": [(difference, "_newly", basic_rights_alone)],
    "what runs a file that gains its first x": [(counting._Counting, "_with_programs", lambda self, survey: survey)],
    "the sticky bit": [(checks, "STICKY", 0)],
    "names in a directory": [(counting._Counting, "_extent_under", lambda self, part: None)],
    "each path for a topmost one": [(pathsbehind, "topmost_paths", every_path)],
    "the paths of another set of people": [(effects.PathsBehind, "_meant", of_anybody)],
    "supposed postures of one name of several": [(PosturesOfMany, "on", lambda self, survey: survey)],
}


@pytest.mark.slow
@pytest.mark.root
@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_of_effects_catches(fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    for place, name, wrong in FAULTS[fault]:
        monkeypatch.setattr(place, name, wrong)
    with judging() as judge, fresh("tmpfs") as top:
        for seed in range(1, 30):
            with Estate(top, seed) as estate:
                judge.changes_in(estate)
            if judge.wrong:
                return
    pytest.fail("nothing wrong in 29 estates")


DERIVED: dict[str, tuple[str, Callable[[Any], list[object]]]] = {
    "a preview": ("set /srv/skerry/observatory --mode o+x --preview", lambda found: found["gains"]),
    "a preview of a tree": ("set /srv/skerry/charts --below --mode o= --preview", lambda found: found["losses"]),
    "a guard": (
        "set /srv/skerry/observatory --mode o+wx --preview",
        lambda found: [guard for guard in found["guards"] if guard["name"] == "everyone-writes"],
    ),
    "a supposed membership": (
        "who /srv/skerry/observatory --if-member surveyor:watch",
        lambda found: found["results"][0]["against_today"]["gains"],
    ),
    "a supposed membership in a tree": (
        "who /srv/skerry --below --if-member surveyor:watch",
        lambda found: found["against_today"]["gains"],
    ),
    "advice": (
        "why chartpress write /srv/skerry/log/chartpress.log",
        lambda found: [one for one in found["results"][0]["changes"] if one["others"]],
    ),
    "what people gained, put back": (
        "restore skerry --only-gained --preview --from skerry-later",
        lambda found: found["results"],
    ),
}
"""What is derived from gains and losses: a command line on the sample, and what of its answer holds them."""


@pytest.mark.parametrize("name", DERIVED)
def test_all_that_is_derived_comes_from_one_function(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    line, part = DERIVED[name]
    words = [*line.split(), *([] if "--from" in line else ["--from", "skerry"]), "--format", "json"]
    assert part(answer(words))
    monkeypatch.setattr(difference, "_newly", lambda before, after: {})
    assert not part(answer(words))


ASKING = {
    "set /srv/skerry/observatory --mode o+wx --preview": {"core.ask.effects", "core.change.guards.people"},
    "restore skerry --only-lost --from skerry-later --preview": {"core.state.restoring"},
    "compare skerry skerry-later": {"core.state.comparison"},
    "check skerry --mend": {"core.expect.mending"},
    "let auditor read /srv/skerry/observatory/2026/november/barometer.csv": {"core.suggest.means"},
}
"""Command lines, and which modules ask there where two answers differ."""


@pytest.mark.parametrize("line", ASKING)
def test_two_answers_are_compared_in_one_place(line: str, monkeypatch: pytest.MonkeyPatch) -> None:
    asked: set[str] = set()

    def noted(one: effects.Sets, other: effects.Sets) -> dict[Right, int]:
        asked.add(sys._getframe(2).f_globals["__name__"].removeprefix("fiat."))
        return _newly(one, other)

    monkeypatch.setattr(difference, "_newly", noted)
    answer(
        [*line.split(), *([] if "--from" in line or "compare" in line else ["--from", "skerry"]), "--format", "json"]
    )
    assert asked >= ASKING[line]
