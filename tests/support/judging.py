"""The judge of answers: Fiat's against the kernel's, on generated worlds, errno included.

FIAT_JUDGE_WORLDS sets how many worlds each file system gets (the default is for every day), FIAT_JUDGE_SEED the first
seed.
"""

import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager, nullcontext

from fiat.core.model.principals import Principal, Universe, unlisted_user, user
from fiat.core.model.right import ALL, CREATE, DELETE, EXECUTE, RENAME, WRITE, Right
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.checks import Verdict
from fiat.core.tree.walk import route_for
from fiat.host.live.host import LiveHost
from support.filesystems import ROOT, fresh
from support.kernel import NO_GROUP, tries
from support.worlds import NO_ACCOUNT, World

WORLDS = int(os.environ.get("FIAT_JUDGE_WORLDS", "12"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))


def people(world: World, host: LiveHost) -> list[Principal]:
    """Everyone who tries: the accounts as root, otherwise this very process."""
    if not ROOT:
        return [host.actor()]
    known = [user(account, world.people.gids_of(account)) for account in world.people.users]
    return [*known, unlisted_user(NO_ACCOUNT)._replace(gid=NO_GROUP)]


def disagreements(world: World, *, keeping: bool = False) -> tuple[int, list[str]]:
    """How many answers were compared, and those where Fiat and the kernel differ; nothing is deleted when ``keeping``
    what there is."""
    host = LiveHost(world.people)
    everyone = people(world, host)
    judging = Access(Universe(everyone), host.settings)
    asked = [(right, world.seen(path)) for path in world.paths for right in ALL]
    asked = [question for question in asked if not _own_meaning(*question)]
    questions = [_question(*question) for question in asked]
    if keeping:
        questions = [("delete by the wrong call" if right == "delete" else right, path) for right, path in questions]
    routes = {(right, path): route_for(host, path, right) for right, path in asked}
    granted = {question: judging.allowed(route, question[0]) for question, route in routes.items()}
    wrong = []
    for place, who in enumerate(everyone):
        truth = tries(who if ROOT else None, questions, world.undo)
        for (right, path), number in zip(asked, truth, strict=True):
            if right is EXECUTE and cannot_know(routes[right, path]):
                continue
            if ROOT and routes[right, path].hidden:  # where not even root may look, and Fiat says so
                continue
            verdict = judging.verdict(routes[right, path], right, place)
            if verdict.errno != number or bool(granted[right, path] >> place & 1) != (number == 0):
                step = verdict.deciding
                fiat = f"{verdict.errno} by {step.rule} at {step.path}"
                wrong.append(f"{who.uid} {sorted(who.gids)} {right} {path}: the kernel {number}, Fiat {fiat}")
    return len(everyone) * len(questions), wrong


def differing(
    about: str, asked: Iterable[tuple[str, str]], verdicts: Iterable[Verdict], truth: Iterable[int]
) -> list[str]:
    """Where the kernel's answers to what was asked (how, and of which path) are not those that Fiat has."""
    return [
        f"{about} {how} {path}: the kernel {number}, "
        f"Fiat {verdict.errno} by {verdict.deciding.rule} at {verdict.deciding.path}"
        for (how, path), verdict, number in zip(asked, verdicts, truth, strict=True)
        if verdict.errno != number
    ]


def _question(right: Right, path: str) -> tuple[str, str]:
    """How the kernel is asked."""
    return (f"{right} in" if right in (WRITE, CREATE) and _is_directory(path) else right.name), path


def cannot_know(route: Route | None) -> bool:
    """Whether something that is to be run may be a script for all that Fiat may read of it; only root always may."""
    if route is None or route.end is None:
        return False
    if route.interpreter is not None and route.interpreter.hidden:
        return True
    return any(what == "first bytes" for what, _ in route.end.unknown) or cannot_know(route.interpreter)


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
    made: list[World],
    record: Record,
    around: Callable[[World], AbstractContextManager[None]] = lambda _: nullcontext(),
    *,
    keeping: bool = False,
) -> None:
    """Compare every answer in every world, and record how many there were."""
    total = 0
    for number, world in enumerate(made):
        with around(world):
            compared, wrong = disagreements(world, keeping=keeping)
        assert not wrong, f"seed {SEED + number}: {len(wrong)} of {compared} wrong, such as {wrong[0]}"
        total += compared
    assert total > (1500 if ROOT else 100) * len(made)
    record("compared", total)
