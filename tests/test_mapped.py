"""Mounts that map numbers: every answer and every change against the kernel's, errno included.

FIAT_JUDGE_WORLDS and FIAT_JUDGE_SEED as in test_kernel.
"""

import os
import random

import pytest

from fiat.core.model.idmap import IdMap, NumberMap
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Universe, user
from fiat.core.rules import decision
from fiat.core.tree.walk import walk
from fiat.host.live.host import LiveHost
from fiat.host.live.kernel import Kernel
from support.changing import changed_and_put_back
from support.files import set_state, state_of
from support.filesystems import fresh
from support.judging import WORLDS, Record, disagreements, judge, worlds
from support.kernel import NEW_MOUNTS, STRANGER, MapIds, Subject, unshare
from support.mapped import Ranges, mount_mapped, seen_mapped
from support.places import trusted_folder
from support.worlds import GIDS, NO_ACCOUNT, UIDS, World, protections

pytestmark = pytest.mark.root

_PEOPLE = len(UIDS)
MAPS: dict[str, tuple[Ranges, Ranges]] = {
    # what belongs to one belongs to the next
    "turned": (
        [
            (0, 0, 1),
            *((uid, UIDS[(place + 1) % _PEOPLE], 1) for place, uid in enumerate(UIDS)),
            (STRANGER, STRANGER, 1),
        ],
        [(0, 0, 1), *((gid, GIDS[place - 1], 1) for place, gid in enumerate(GIDS)), (STRANGER, STRANGER, 1)],
    ),
    # some have no number on disk, and some of what is on disk has no number here
    "some": (
        [(0, UIDS[0], 1), (UIDS[0], UIDS[1], 3), (UIDS[4], 0, 1), (STRANGER, STRANGER, 1)],
        [(0, 0, 1), (GIDS[0], GIDS[0], 4), (STRANGER, STRANGER, 1)],
    ),
    "all but groups": (
        [(0, 0, NO_ACCOUNT + 1), (STRANGER, STRANGER, 1)],
        [(GIDS[0], GIDS[2], 2), (STRANGER, STRANGER, 1)],
    ),
}


@pytest.mark.parametrize("numbers", MAPS)
@pytest.mark.parametrize("kind", ["ext4", "xfs", "btrfs", "tmpfs"])
def test_every_answer_is_the_kernels(kind: str, numbers: str, record_property: Record) -> None:
    with worlds(kind, max(WORLDS // 3, 1)) as made, protections():
        judge(made, record_property, lambda world: seen_mapped(world, *MAPS[numbers]))


@pytest.mark.slow
@pytest.mark.parametrize("numbers", MAPS)
@pytest.mark.parametrize("kind", ["ext4", "tmpfs"])
def test_what_is_planned_through_it_is_what_happens(kind: str, numbers: str, record_property: Record) -> None:
    total = 0
    with fresh(kind) as top:
        for seed in range(1, 9):
            dice = random.Random(seed)
            with World(top, seed) as world, seen_mapped(world, *MAPS[numbers]), trusted_folder() as folder:
                at_home = list(world.objects)
                before = {path: state_of(path) for path in at_home}
                world.objects = [world.seen(path) for path in at_home]
                everyone = [user(account, world.people.gids_of(account)) for account in world.people.users]
                for who in (everyone[0], dice.choice(everyone[1:])):
                    made = changed_and_put_back(world, who, dice, folder)
                    total += made.tried
                    for path in at_home:
                        now, seen = state_of(path), world.seen(path)
                        assert now == before[path] or seen in made.attempted or seen in made.failed
                        set_state(path, before[path])
    record_property("changes", total)
    assert total > 150


def test_a_mount_of_a_processs_own_is_told_by_its_map() -> None:
    """One that nobody else sees."""
    with fresh("tmpfs") as top:
        os.mkdir(f"{top}/at")
        os.mkdir(f"{top}/on")
        os.chown(f"{top}/on", 5, 6)

        def setup(_: MapIds) -> None:
            unshare(NEW_MOUNTS)
            mount_mapped(f"{top}/on", f"{top}/at", [(5, 7105, 1)], [(6, 7206, 1)])

        with Subject(setup) as subject:
            host = LiveHost()
            end = walk(host.seen_by(host.process(subject.pid)), f"{top}/at").end
            assert end is not None
            assert end.mount is not None
            assert end.mount.id_map == IdMap(NumberMap(((5, 7105, 1),)), NumberMap(((6, 7206, 1),)))
            assert (end.posture.uid, end.posture.gid) == (7105, 7206)


# --- the judge can fail ----------------------------------------------------------------

FAULTS: dict[str, tuple[object, str, object]] = {
    "everybody may make things": (Universe, "mapped", lambda universe, numbers: universe.everyone),
    "what is shown is taken for a number": (Kernel, "unmapped_as", lambda kernel, mount: (-1, -1, 0)),
    "what has no owner is removed": (Posture, "unmapped", False),
    "root has power over it": (decision, "_have_numbers", lambda of: True),
}


@pytest.mark.slow
@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_catches(fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(*FAULTS[fault])
    with protections():
        for seed in range(1, 80):
            with worlds("here", 1, seed) as (world,), seen_mapped(world, *MAPS["some"]):
                if disagreements(world)[1]:
                    return
    pytest.fail("no disagreement in 79 worlds")
