"""Fiat's answers against the running kernel's, on generated worlds, errno included.

FIAT_JUDGE_WORLDS sets how many worlds each file system gets (the default is
for every day), FIAT_JUDGE_SEED the first seed. --junitxml=FILE records how
many answers each test has compared.
"""

import os
import random
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager, nullcontext

import pytest

from fiat.core.model.principals import Principal, Universe, unlisted_user, user
from fiat.core.model.right import ALL, BASIC, CREATE, DELETE, EXECUTE, RENAME, WRITE, Right
from fiat.core.model.route import Route
from fiat.core.rules import checks, effective
from fiat.core.rules import decision as rules
from fiat.core.rules.access import Access
from fiat.core.tree.walk import route_for
from fiat.host.live.host import LiveHost
from support.filesystems import ROOT, fresh
from support.kernel import as_somebody, may, tries
from support.places import BASE
from support.worlds import NO_ACCOUNT, World, mounted_twice, protections, read_only

WORLDS = int(os.environ.get("FIAT_JUDGE_WORLDS", "12"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
FILESYSTEMS = ("here", "ext4", "xfs", "btrfs", "tmpfs")


def people(world: World, host: LiveHost) -> list[Principal]:
    """Everyone who tries: the accounts as root, otherwise this very process."""
    if not ROOT:
        return [host.actor()]
    known = [user(account, world.people.gids_of(account)) for account in world.people.users]
    return [*known, unlisted_user(NO_ACCOUNT)]


def disagreements(world: World) -> tuple[int, list[str]]:
    """How many answers were compared, and those where Fiat and the kernel differ."""
    host = LiveHost(world.people)
    everyone = people(world, host)
    judging = Access(Universe(everyone), host.settings)
    asked = [(right, world.seen(path)) for path in world.paths for right in ALL]
    asked = [question for question in asked if not _own_meaning(*question)]
    questions = [_question(*question) for question in asked]
    routes = {(right, path): route_for(host, path, right) for right, path in asked}
    granted = {question: judging.allowed(route, question[0]) for question, route in routes.items()}
    wrong = []
    for place, who in enumerate(everyone):
        truth = tries(who if ROOT else None, questions, world.undo)
        for (right, path), number in zip(asked, truth, strict=True):
            if right is EXECUTE and _says_it_cannot_know(routes[right, path]):
                continue
            verdict = judging.verdict(routes[right, path], right, place)
            if verdict.errno != number or bool(granted[right, path] >> place & 1) != (number == 0):
                step = verdict.deciding
                fiat = f"{verdict.errno} by {step.rule} at {step.path}"
                wrong.append(f"{who.uid} {sorted(who.gids)} {right} {path}: the kernel {number}, Fiat {fiat}")
    return len(everyone) * len(questions), wrong


def _question(right: Right, path: str) -> tuple[str, str]:
    """How the kernel is asked."""
    return (f"{right} in" if right in (WRITE, CREATE) and _is_directory(path) else right.name), path


def _says_it_cannot_know(route: Route | None) -> bool:
    """Whether something that is to be run may be a script for all that Fiat may read of it; only root always may."""
    if route is None or route.end is None:
        return False
    return any(what == "first bytes" for what, _ in route.end.unknown) or _says_it_cannot_know(route.interpreter)


def _own_meaning(right: Right, path: str) -> bool:
    """Whether a slash at the end, of the path or of a link in it, means something else to each system call."""
    if path.endswith("/"):
        return right in (CREATE, DELETE, RENAME)
    return right is CREATE and os.path.islink(path) and not _is_directory(path) and _ends_in_slash(path)


def _is_directory(path: str) -> bool:
    """Whether ``path`` leads to a directory.

    Asked in two ways: fs.protected_symlinks refuses the first even to root,
    a directory that may not be traversed the second to everyone else.
    """
    return os.path.isdir(path) or os.path.isdir(f"{path}/.")


def _ends_in_slash(path: str, depth: int = 40) -> bool:
    target = os.readlink(path)
    following = os.path.join(os.path.dirname(path), target)
    return target.endswith("/") or (depth > 0 and os.path.islink(following) and _ends_in_slash(following, depth - 1))


@contextmanager
def worlds(kind: str, count: int = WORLDS, first: int = SEED) -> Iterator[list[World]]:
    """Worlds on one fresh file system of ``kind``."""
    with fresh(kind) as top, ExitStack() as made:
        yield [made.enter_context(World(top, seed)) for seed in range(first, first + count)]


Record = Callable[[str, object], None]


def judge(
    made: list[World], record: Record, around: Callable[[World], AbstractContextManager[None]] = lambda _: nullcontext()
) -> None:
    """Compare every answer in every world, and record how many there were."""
    total = 0
    for number, world in enumerate(made):
        with around(world):
            compared, wrong = disagreements(world)
        assert not wrong, f"seed {SEED + number}: {len(wrong)} of {compared} wrong, such as {wrong[0]}"
        total += compared
    assert total > (1500 if ROOT else 100) * len(made)
    record("compared", total)


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
