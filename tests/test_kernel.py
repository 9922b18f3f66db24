"""Fiat's answers against the running kernel's, on generated worlds, errno included.

FIAT_JUDGE_WORLDS sets how many worlds each file system gets (the default is
for every day), FIAT_JUDGE_SEED the first seed. --junitxml=FILE records how
many answers each test has compared.
"""

import os
import random
from collections.abc import Iterator

import pytest

from fiat.core.model.principals import Universe, user
from fiat.core.model.right import BASIC, EXECUTE, Right
from fiat.core.rules import checks, effective
from fiat.core.rules import decision as rules
from fiat.core.rules.access import Access
from fiat.core.tree.walk import route_for
from fiat.host.live.host import LiveHost
from support.judging import SEED, WORLDS, Record, disagreements, judge, worlds
from support.kernel import as_somebody, may
from support.places import BASE
from support.worlds import mounted_twice, protections, read_only

FILESYSTEMS = ("here", "ext4", "xfs", "btrfs", "tmpfs")


@pytest.mark.slow
@pytest.mark.parametrize("kind", FILESYSTEMS)
def test_every_answer_is_the_kernels(kind: str, record_property: Record) -> None:
    with worlds(kind) as made, protections():
        judge(made, record_property)


@pytest.mark.parametrize("kind", ["ext4", "xfs", "tmpfs"])
def test_on_a_read_only_file_system(kind: str, record_property: Record) -> None:
    with worlds(kind, WORLDS // 4) as made, protections(), read_only(os.path.dirname(made[0].top)):
        judge(made, record_property)


@pytest.mark.root
@pytest.mark.parametrize("options", ["ro", "noexec", "nodev", "nosymfollow", "ro,noexec,nosuid,nodev"])
@pytest.mark.parametrize("kind", ["ext4", "xfs", "tmpfs"])
def test_through_a_mount_with(options: str, kind: str, record_property: Record) -> None:
    with worlds(kind, WORLDS // 4) as made, protections():
        judge(made, record_property, lambda world: mounted_twice(world, options))


@pytest.mark.root
@pytest.mark.parametrize("levels", [(1, 1, 1), (1, 2, 2), (0, 2, 1), (1, 0, 2)])
def test_under_protections(levels: tuple[int, int, int], record_property: Record) -> None:
    with worlds("tmpfs", WORLDS // 2) as made, protections(levels):
        judge(made, record_property)


@pytest.mark.slow
@pytest.mark.root
def test_on_this_machines_own_files() -> None:
    """Every account of this host on a sample of what is really there, without changing anything.

    What other tests make beside this one is left out: it changes between Fiat's answer and the kernel's.
    """
    host = LiveHost()
    everyone = [user(account, host.accounts.gids_of(account)) for account in host.accounts.users]
    judging = Access(Universe(everyone), host.settings)
    paths = [
        os.path.join(folder, name)
        for top in ("/etc", "/var/lib", "/usr/bin", "/usr/share", "/dev", "/root", "/home")
        for folder, folders, files in os.walk(top)
        if not folder.startswith(BASE)
        for name in (*folders, *files)
        # /proc/self is another directory for each process that looks
        if not os.path.realpath(os.path.join(folder, name)).startswith("/proc/")
    ]
    asked = []
    for path in random.Random(SEED).sample(sorted(paths), min(400, len(paths))):
        for right in BASIC:
            route = route_for(host, path, right)
            # running a file is more than its own bits
            if route.end is not None and right.applies(route.end.posture.kind) and right is not EXECUTE:
                asked.append((path, right, right.permissions_on(route.end.posture.kind), route))
    for place, who in enumerate(everyone):
        truth = as_somebody(who, lambda: [may(permissions, path) for path, _, permissions, _ in asked])
        for (path, right, _, route), number in zip(asked, truth, strict=True):
            assert judging.verdict(route, right, place).errno == number, (who.name, right, path)


# --- the judge can fail ------------------------------------------------------------


def never_pass_over(mode: int) -> bool:
    return False


_right_allowed = rules.Decision.allowed


def union_of_entries(decision: rules.Decision, want: int) -> int:
    """Rights spread over several entries counted together."""
    granted = -1
    for bit in (4, 2, 1):
        if want & bit:
            granted &= _right_allowed(decision, bit)
    return granted


def override_anything(want: int, *, directory: bool, executable: bool) -> tuple[int, int]:
    return 0, -1


def no_limits(object_: object, *, allow_adding: bool) -> Iterator[str]:
    return iter(())


@pytest.mark.slow
@pytest.mark.root
@pytest.mark.parametrize(
    ("place", "name", "wrong_rule"),
    [
        (effective, "passes_over_list", never_pass_over),
        (rules.Decision, "allowed", union_of_entries),
        (rules, "overriding_capability", override_anything),
        (rules, "EXECUTE_BITS", 0),
        (Right, "permissions_on", lambda right, kind: right.permission),
        (checks, "limits_on", no_limits),
        (checks, "STICKY", 0),
        (checks.Step, "allowed", True),
    ],
)
def test_the_judge_catches_a_wrong_rule(
    monkeypatch: pytest.MonkeyPatch, place: object, name: str, wrong_rule: object
) -> None:
    monkeypatch.setattr(place, name, wrong_rule)
    if hasattr(rules, name):  # what is taken from another room goes by its name there
        monkeypatch.setattr(rules, name, wrong_rule)
    with protections():
        for seed in range(1, 80):
            with worlds("here", 1, seed) as made:
                if disagreements(made[0])[1]:
                    return
    pytest.fail("no disagreement in 80 worlds")
