"""Fiat's answers against the running kernel's, on generated worlds, errno included.

FIAT_JUDGE_WORLDS sets how many worlds each file system gets (the default is
for every day), FIAT_JUDGE_SEED the first seed.
"""

import os
from collections.abc import Callable

import pytest

from fiat.core import access, rules
from fiat.core.access import Access, applies
from fiat.core.posture import Kind
from fiat.core.principals import Principal, Universe, user
from fiat.core.route import walk
from fiat.core.rules import AccessClass
from fiat.host.live import LiveHost
from filesystems import ROOT, fresh
from kernel import as_somebody, errno_of
from worlds import World

WORLDS = int(os.environ.get("FIAT_JUDGE_WORLDS", "30"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
FILESYSTEMS = ("here", "ext4", "xfs", "btrfs", "tmpfs")

Answer = dict[tuple[str, str], int]
"""errno (0 for yes) by path and right."""


def people(world: World, host: LiveHost) -> list[Principal]:
    """Everyone who tries: the accounts as root, otherwise this very process."""
    if not ROOT:
        return [host.actor()]
    return [user(account, world.people.gids_of(account)) for account in world.people.users]


def disagreements(world: World) -> tuple[int, list[str]]:
    """How many answers were compared, and those where Fiat and the kernel differ."""
    host = LiveHost(world.people)
    everyone = people(world, host)
    judging = Access(Universe(everyone), host.settings)
    routes = {path: walk(host, path) for path in world.paths}
    questions = [
        (path, right)
        for path, route in routes.items()
        for right in access.RIGHTS
        if route.end is None or (applies(right, route.end.posture.kind) and route.end.posture.kind is not Kind.SYMLINK)
    ]
    compared, wrong = 0, []
    for place, who in enumerate(everyone):

        def tries() -> Answer:
            return {(path, right): errno_of(right, path) for path, right in questions}

        truth = as_somebody(who if ROOT else None, tries)
        for (path, right), number in truth.items():
            verdict = judging.verdict(routes[path], right, place)
            compared += 1
            if verdict.errno != number or bool(judging.allowed(routes[path], right) >> place & 1) != (number == 0):
                wrong.append(f"{who.uid} {sorted(who.gids)} {right} {path}: kernel {number}, Fiat {verdict}")
    return compared, wrong


@pytest.mark.parametrize("kind", FILESYSTEMS)
def test_every_answer_is_the_kernels(kind: str) -> None:
    total = 0
    with fresh(kind) as top:
        for seed in range(SEED, SEED + WORLDS):
            compared, wrong = disagreements(World(top, seed))
            assert not wrong, f"seed {seed}: {len(wrong)} of {compared} wrong, such as {wrong[0]}"
            total += compared
    print(f"{kind}: {total} answers compared")
    assert total > 150 * WORLDS * (5 if ROOT else 0.2)


def never_pass_over(mode: int) -> bool:
    return False


def union_of_entries(self: AccessClass, want: int) -> int:
    """Rights spread over several entries counted together."""
    granted = self.principals
    for bit in (4, 2, 1):
        if want & bit:
            some = 0
            for share in self.shares:
                some |= share.principals if share.permissions & bit else 0
            granted &= some
    return granted


def override_anything(posture: object, want: int) -> tuple[int, int]:
    return 0, -1


@pytest.mark.skipif(not ROOT, reason="needs many users")
@pytest.mark.parametrize(
    ("place", "name", "wrong_rule"),
    [
        (rules, "passes_over_list", never_pass_over),
        (AccessClass, "granting", union_of_entries),
        (rules, "overriding_capability", override_anything),
        (rules, "EXECUTE_BITS", 0),
        (access, "permissions_for", lambda right, kind: {"read": 4, "write": 2}.get(right, 1)),
    ],
)
def test_the_judge_catches_a_wrong_rule(
    monkeypatch: pytest.MonkeyPatch, place: object, name: str, wrong_rule: Callable[..., object]
) -> None:
    monkeypatch.setattr(place, name, wrong_rule)
    with fresh("here") as top:
        found = [line for seed in range(1, 16) for line in disagreements(World(top, seed))[1]]
    assert found
