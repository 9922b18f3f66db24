"""Planned changes against what the kernel makes of them, on generated worlds, and putting them back."""

import os
import random
import tempfile
from collections.abc import Callable
from contextlib import suppress

import pytest

from fiat.core.change import steps
from fiat.core.model import capabilities
from fiat.core.model.principals import user
from fiat.core.rules import sideeffects
from fiat.host.history.sqlite import SqliteHistory
from support.changing import changes_as_this_process, give_to_root, put_all_back
from support.files import POWERS, set_state, state_of
from support.filesystems import KINDS, ROOT, fresh
from support.kernel import as_somebody, keep_capabilities
from support.places import folder_of
from support.worlds import GIDS, UIDS, World

_SOME = (
    capabilities.CHOWN,
    capabilities.FOWNER,
    capabilities.FSETID,
    capabilities.SETFCAP,
    capabilities.LINUX_IMMUTABLE,
)


@pytest.mark.root
@pytest.mark.parametrize("kind", ["ext4", "btrfs"])
def test_the_same_for_processes_with_some_capabilities(kind: str) -> None:
    """Who may give files away may yet not be their owner, nor set their special bits."""
    with fresh(kind) as top:
        for seed in range(201, 231):
            with World(top, seed) as world, tempfile.TemporaryDirectory(prefix="fiat-test-") as folder:
                os.chmod(folder, 0o755)
                dice = random.Random(seed)
                groups = dice.sample(GIDS, 2)
                for path in world.objects:  # both special bits, where one goes with the other and where it does not
                    if os.path.isfile(path) and not os.path.islink(path) and dice.random() < 0.5:
                        with suppress(OSError):  # an immutable one
                            os.chown(path, -1, dice.choice(groups))
                            os.chmod(path, os.stat(path).st_mode & 0o767 | dice.choice((0o6000, 0o2000)))
                before = {path: state_of(path) for path in world.objects}
                held = capabilities.DAC_OVERRIDE | sum(dice.sample(_SOME, dice.randint(1, 3)))
                uid = dice.choice(UIDS)
                history = SqliteHistory(f"{folder_of(uid, folder)}/history.db")

                def change() -> tuple[int, list[str], set[str]]:
                    os.setgroups(groups)  # noqa: B023
                    keep_capabilities(held, uid)  # noqa: B023
                    return changes_as_this_process(world, dice, history)  # noqa: B023

                _, wrong, attempted = as_somebody(None, change)
                assert not wrong, (capabilities.names(held), uid, wrong[0])
                give_to_root(history)
                assert put_all_back(world, history) == []
                # who gives a file away may not change its mode any more: half of such a plan goes through when tried
                assert all(state_of(path) == before[path] for path in before if path not in attempted)


@pytest.mark.slow
@pytest.mark.parametrize("kind", KINDS)
def test_what_was_planned_is_what_happens_and_can_be_put_back(
    kind: str, record_property: Callable[[str, object], None]
) -> None:
    total = 0
    with fresh(kind) as top:
        for seed in range(1, 41):
            with World(top, seed) as world, tempfile.TemporaryDirectory(prefix="fiat-test-") as folder:
                os.chmod(folder, 0o755)
                dice = random.Random(seed)
                if ROOT:
                    for path in world.objects:
                        if os.path.isfile(path) and not os.path.islink(path) and dice.random() < 0.2:
                            with suppress(OSError):  # an immutable one
                                os.setxattr(path, capabilities.CAPABILITY_XATTR, POWERS)
                everyone = [user(account, world.people.gids_of(account)) for account in world.people.users]
                for who in [everyone[0], *dice.sample(everyone[1:], 3)] if ROOT else [None]:
                    before = {path: state_of(path) for path in world.objects if os.path.lexists(path)}
                    place = folder_of(who.uid or 0 if who else os.geteuid(), folder)
                    history = SqliteHistory(f"{place}/{who.name if who else 'own'}.db")  # root may have taken another's
                    tried, wrong, halfway = as_somebody(
                        who,
                        lambda: changes_as_this_process(world, dice, history),  # noqa: B023
                    )
                    assert not wrong, wrong[0]
                    total += tried
                    for path in halfway:  # what was refused its flags alone
                        set_state(path, before[path])
                    if dice.random() < 0.5:  # put back by the same user, who may lack what they had: a group, root
                        failed = as_somebody(who, lambda: put_all_back(world, history))  # noqa: B023
                        assert all(state_of(path) == before[path] for path in before if path not in failed)
                        for path in failed:
                            set_state(path, before[path])
                        assert not (failed and (who is None or who.uid == 0))
                    else:
                        if ROOT:
                            give_to_root(history)
                        assert put_all_back(world, history) == []
                    assert {path: state_of(path) for path in before} == before
    record_property("changes", total)
    assert total > (1500 if ROOT else 100)


# --- the judge can fail ------------------------------------------------------------

FAULTS: dict[str, tuple[object, str, object]] = {
    "a change of owner clears nothing": (sideeffects, "cleared_by_chown", lambda posture, **_: 0),
    "setgid is left to everyone": (sideeffects, "keeps_setgid", lambda actor, gid: True),
    "everyone may choose a group": (steps, "may_choose_group", lambda universe, posture, gid: universe.everyone),
    "everyone may change modes": (steps, "may_change_mode", lambda universe, posture: universe.everyone),
    "flags refuse nothing": (steps, "refused_to_everyone", lambda posture, mount: (0, "")),
    "the mask does not follow the mode": (sideeffects, "with_mode", lambda acl, mode: acl),
}


@pytest.mark.slow
@pytest.mark.root
@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_of_changes_catches(fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(*FAULTS[fault])
    with fresh("tmpfs") as top:
        for seed in range(1, 60):
            with World(top, seed) as world, tempfile.TemporaryDirectory(prefix="fiat-test-") as folder:
                os.chmod(folder, 0o755)
                dice = random.Random(seed)
                account = dice.choice(world.people.users)
                history = SqliteHistory(f"{folder_of(account.uid, folder)}/history.db")
                who = user(account, world.people.gids_of(account))
                if as_somebody(who, lambda: changes_as_this_process(world, dice, history))[1]:  # noqa: B023
                    return
    pytest.fail("nothing wrong in 59 worlds")
