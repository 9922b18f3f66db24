"""Fiat in a user namespace, as in a container that an ordinary user has started: what it says there against what
people of that namespace meet.

FIAT_JUDGE_WORLDS and FIAT_JUDGE_SEED as for the other judges of answers.
"""

import random
from collections import Counter

import pytest

from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.idmap import OUTSIDE
from fiat.core.model.principals import Principal, Universe, user
from fiat.core.model.right import ALL, EXECUTE
from fiat.core.rules import decision
from fiat.core.rules.access import Access
from fiat.core.tree.walk import route_for
from fiat.host.live.host import LiveHost
from fiat.host.live.kernel import Kernel
from support import changing, kernel, worlds
from support.changing import changes_as_this_process
from support.filesystems import fresh
from support.judging import SEED, WORLDS, Record, cannot_know, differing
from support.kernel import MapIds, Subject, as_somebody, errno_of
from support.trying import how_to_try
from support.worlds import GIDS, UIDS, World, protections

pytestmark = pytest.mark.root

_FIRST = 1000


def _inside(number: int, of: range, known: int) -> int | None:
    """What a number of the world is in the namespace: 0 is the first of them, the next ones follow 1000."""
    if number == of[0]:
        return 0
    return _FIRST + number - of[0] if of[0] < number < of[0] + known else None


def _people(world: World, known: int) -> Accounts:
    """Those of the world whom the namespace knows, by their numbers there."""
    names = {account.name: _inside(account.uid, UIDS, known) for account in world.people.users}
    users = [
        User(account.name, uid, _inside(account.gid, GIDS, len(GIDS)) or 0)
        for account in world.people.users
        if (uid := names[account.name]) is not None
    ]
    groups = [
        Group(
            group.name,
            _inside(group.gid, GIDS, len(GIDS)) or 0,
            tuple(one for one in group.members if names[one] is not None),
        )
        for group in world.people.groups
    ]
    return Accounts(users, groups, "the namespace")


def disagreements(seed: int, top: str, seen: Counter[str]) -> list[str]:
    """What Fiat, which runs in a user namespace, and people there differ about."""
    dice = random.Random(seed)
    known = dice.randint(3, len(UIDS))

    def within(world: World) -> tuple[Counter[str], list[str]]:
        host = LiveHost(_people(world, known))
        everyone = [user(one, host.accounts.gids_of(one)) for one in host.accounts.users]
        judging = Access(Universe(everyone), host.settings)
        asked = []
        for path in world.paths:
            for right in ALL:
                how = how_to_try(right, host, path, changes=False)
                if how is not None:
                    asked.append((right, path, how, route_for(host, path, right)))
        asked = [one for one in asked if not (one[3].hidden or (one[0] is EXECUTE and cannot_know(one[3])))]
        met: Counter[str] = Counter()
        wrong: list[str] = []
        for place, who in enumerate(everyone):
            truth = as_somebody(who, lambda: [errno_of(how, path) for _, path, how, _ in asked])
            verdicts = [judging.verdict(route, right, place) for right, _, _, route in asked]
            about = f"seed {seed}: {who.uid} {sorted(who.gids)}"
            wrong += differing(about, ((how, path) for _, path, how, _ in asked), verdicts, truth)
            for (_, _, _, route), number in zip(asked, truth, strict=True):
                outside = route.end is not None and OUTSIDE in (route.end.posture.uid, route.end.posture.gid)
                met.update(("all", f"errno {number}", f"outside {outside}"))
        return met, wrong

    with World(top, seed) as world:
        for path in world.paths:  # who is in the namespace may not get to Fiat's modules
            how_to_try(EXECUTE, LiveHost(), path, changes=False)

        def setup(map_ids: MapIds) -> tuple[Counter[str], list[str]]:
            kernel.unshare(kernel.NEW_USERS)
            map_ids(
                f"0 {UIDS[0]} 1\n{_FIRST + 1} {UIDS[1]} {known - 1}\n",
                f"0 {GIDS[0]} 1\n{_FIRST + 1} {GIDS[1]} {len(GIDS) - 1}\n",
            )
            kernel.become(Principal("user", None, 0, frozenset({0})))
            return within(world)

        with Subject(setup) as subject:
            met, wrong = subject.made
    seen.update(met)
    return list(wrong)


@pytest.mark.slow
def test_what_fiat_says_there_is_what_people_there_meet(record_property: Record) -> None:
    seen: Counter[str] = Counter()
    with protections():
        for seed in range(SEED, SEED + WORLDS):
            with fresh("here" if seed % 2 else "tmpfs") as top:
                wrong = disagreements(seed, top, seen)
                assert not wrong, f"{len(wrong)} of {seen['all']} wrong, such as {wrong[0]}"
    record_property("compared", seen["all"])
    assert seen["outside True"] > 100 * WORLDS


FAULTS: dict[str, tuple[object, str, object]] = {
    "what is shown is taken for a number": (Kernel, "unmapped_as", lambda self, mount: (-1, -1, 0)),
    "root has power over what is outside": (decision, "_have_numbers", lambda of: True),
}


@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_catches(fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(*FAULTS[fault])
    with protections():
        for seed in range(1, 80):
            with fresh("tmpfs") as top:
                if disagreements(seed, top, Counter()):
                    return
    pytest.fail("no disagreement in 79 worlds")


_NUMBERS = (_FIRST + 1, _FIRST + 2, _FIRST + 3, UIDS[3], GIDS[3])
"""Some that the namespace knows, and some that it does not."""


@pytest.mark.slow
def test_what_is_planned_there_is_what_happens() -> None:
    """By root of the namespace, and by one of its people."""
    total = 0
    with fresh("tmpfs") as top, World(top, 0) as world:
        # who is in the namespace may not get to the modules that this takes
        changes_as_this_process(world, random.Random(0), None)
    for seed in range(1, 25):
        dice = random.Random(seed)
        who = dice.choice((0, 0, _FIRST + 1))
        with fresh("tmpfs") as top, World(top, seed) as world:

            def setup(map_ids: MapIds) -> tuple[int, list[str], set[str]]:
                kernel.unshare(kernel.NEW_USERS)
                map_ids(
                    f"0 {UIDS[0]} 1\n{_FIRST + 1} {UIDS[1]} {len(UIDS) - 2}\n",
                    f"0 {GIDS[0]} 1\n{_FIRST + 1} {GIDS[1]} {len(GIDS) - 1}\n",
                )
                for module in (changing, worlds):
                    module.UIDS = module.GIDS = _NUMBERS  # type: ignore[attr-defined]
                kernel.become(Principal("user", None, who, frozenset({0, _FIRST + 2})))  # noqa: B023
                return changes_as_this_process(world, dice, None)  # noqa: B023

            with Subject(setup) as subject:
                tried, wrong, _ = subject.made
            assert not wrong, (seed, who, len(wrong), wrong[0])
            total += tried
    assert total > 300
