"""A FUSE file system of which the kernel checks the modes: who is let in, and every answer, against the kernel's."""

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from fiat.core.model.posture import Mount
from fiat.core.model.principals import Principal, Universe, unlisted_user
from fiat.core.model.right import CHANGE_MODE, READ, TRAVERSE
from fiat.core.rules.access import Access
from fiat.core.tree.walk import route_for
from fiat.host.live.host import LiveHost
from support.filesystems import fresh
from support.fuse import fuse
from support.judging import SEED, WORLDS, Record, disagreements, judge, worlds
from support.kernel import as_somebody, tries
from support.program import fiat, machine
from support.worlds import GIDS, UIDS, World, protections

pytestmark = [pytest.mark.root, pytest.mark.skipif(not os.path.exists("/dev/fuse"), reason="no fuse(4) here")]

OPEN = "user_id=0,group_id=0,default_permissions,allow_other"
"""The kernel checks the modes, and everybody is let in."""


@contextmanager
def shown(folder: str, options: str) -> Iterator[str]:
    """Where a process that refuses nothing shows a folder."""
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as at:
        os.chmod(at, 0o755)
        with fuse(folder, at, options):
            yield at


@contextmanager
def seen_through_fuse(world: World, options: str = OPEN) -> Iterator[None]:
    """Look at the world through a process that refuses nothing."""
    world.forget_flags()  # which the process behind it would be refused by
    with shown(world.top, options) as at:
        world.seen_at = at
        try:
            yield
        finally:
            world.seen_at = world.top


@pytest.mark.slow
def test_where_the_kernel_checks_modes_its_answers_are_fiats(record_property: Record) -> None:
    for seed in range(SEED, SEED + max(WORLDS // 3, 1)):
        with worlds("here", 1, seed) as made, protections():
            judge(made, record_property, seen_through_fuse)


def test_who_made_it_is_let_in_and_nobody_else_not_even_root() -> None:
    """What a user has mounted is theirs alone, but where they let others in."""
    owner = Principal("user", None, UIDS[0], frozenset({GIDS[0]}), gid=GIDS[0])
    people = [
        owner,
        unlisted_user(0)._replace(gid=0),
        unlisted_user(UIDS[1], [GIDS[0]])._replace(gid=GIDS[0]),
        owner._replace(gids=frozenset({GIDS[1]}), gid=GIDS[1]),
    ]
    with fresh("here") as top:
        with open(f"{top}/note", "w"):
            pass
        for path in (top, f"{top}/note"):
            os.chmod(path, 0o777)
        with shown(top, f"user_id={UIDS[0]},group_id={GIDS[0]},default_permissions") as at:
            asked = [(READ, f"{at}/note"), (TRAVERSE, at), (CHANGE_MODE, f"{at}/note")]

            def said() -> list[list[int]]:
                """Fiat is let in as them, and says of everybody what they meet."""
                host = LiveHost()
                access = Access(Universe(people), host.settings)
                routes = [(right, route_for(host, path, right)) for right, path in asked]
                return [[access.verdict(route, right, place).errno for right, route in routes] for place in range(4)]

            told = as_somebody(owner, said)
            questions = [(right.name, path) for right, path in asked]
            met = [tries(who, questions, lambda right, path: None) for who in people]
            assert told[1:] == met[1:] == [[13, 13, 13]] * 3
            assert told[0] == met[0] == [0, 0, 1]
            hidden = fiat("who", f"{at}/note")
            assert (hidden.returncode, "Permission denied" in hidden.stderr) == (3, True)


def test_what_is_still_up_to_the_process_behind_it_is_said() -> None:
    with worlds("here", 1) as (world,), seen_through_fuse(world):
        os.chmod(world.top, 0o755)
        (text,) = [one["text"] for one in machine("who", world.seen_at)["caveats"] if one["code"] == "fuse"]
        assert "the kernel checks the mode; the process behind it may refuse all the same" in text


def test_the_judge_catches_it_where_anybody_is_let_in(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Mount, "lets_in", None)
    only_root = "user_id=0,group_id=0,default_permissions"
    with protections(), worlds("here", 1, 3) as (world,), seen_through_fuse(world, only_root):
        assert disagreements(world)[1]
