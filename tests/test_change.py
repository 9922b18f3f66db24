"""Planned changes against what the kernel makes of them, on generated worlds, and putting them back."""

import os
import random
import tempfile
from collections.abc import Callable
from contextlib import suppress

import pytest

from fiat.core.change import steps
from fiat.core.change.apply import apply
from fiat.core.change.history import IntendedChange, RunBeginning
from fiat.core.change.making import make_plan
from fiat.core.change.planned import Item
from fiat.core.change.rewriting import take
from fiat.core.change.target import Target
from fiat.core.change.undo import UndoTerms, find, put_back
from fiat.core.model import capabilities
from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import FLAGS, Posture
from fiat.core.model.principals import user
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.rules import sideeffects
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.walk import open_end
from fiat.host.history.sqlite import SqliteHistory
from fiat.host.live.host import LiveHost
from support.files import POWERS, set_state, state_of
from support.filesystems import KINDS, ROOT, fresh
from support.kernel import as_somebody, keep_capabilities
from support.places import folder_of
from support.worlds import GIDS, UIDS, World


def any_change(dice: random.Random) -> str:
    """A random mode: octal of one to four digits, or clauses out of the whole grammar."""
    if dice.random() < 0.4:
        return "".join(dice.choice("01234567") for _ in range(dice.randint(1, 4)))
    clauses = []
    for _ in range(dice.randint(1, 3)):
        actions = "".join(
            dice.choice("+-=") + dice.choice(("u", "g", "o", "".join(dice.sample("rwxXst", dice.randint(0, 4)))))
            for _ in range(dice.randint(1, 2))
        )
        clauses.append("".join(dice.sample("ugoa", dice.randint(0, 3))) + actions)
    return ",".join(clauses)


def any_list_wish(world: World, dice: random.Random) -> ListWish:
    some = list(world.access_list().entries)
    entries = tuple(EntryWish(entry, dice.random() < 0.2) for entry in dice.sample(some, dice.randint(0, len(some))))
    return ListWish(
        entries,
        tuple(Entry(Tag.NAMED_USER, 0, uid) for uid in dice.sample(UIDS, dice.choice((0, 2)))),
        dice.choice((None, None, 0, 1, 4, 5, 7)),
        dice.random() < 0.2,
    )


def any_wish(world: World, dice: random.Random, others: list[Posture]) -> Wish:
    """A random change of one thing or of several."""
    wish = Wish()
    if dice.random() < 0.5:
        wish = wish._replace(mode=parse_change(any_change(dice)))
    if dice.random() < 0.2:
        wish = wish._replace(file_mode=parse_change(any_change(dice)), dir_mode=parse_change(any_change(dice)))
    if dice.random() < 0.3:
        wish = wish._replace(uid=dice.choice((0, os.geteuid(), *UIDS)))
    if dice.random() < 0.4:
        wish = wish._replace(gid=dice.choice((0, os.getegid(), *os.getgroups(), *GIDS)))
    if dice.random() < 0.4:
        wish = wish._replace(access=any_list_wish(world, dice))
    if dice.random() < 0.2:
        wish = wish._replace(default=any_list_wish(world, dice))
    if dice.random() < 0.1:
        wish = wish._replace(like=dice.choice(others))
    if dice.random() < 0.2:
        some = dice.choice((("immutable",), ("append-only",), FLAGS))
        wish = wish._replace(flags=some) if dice.random() < 0.6 else wish._replace(no_flags=some)
    return wish


def attempt(path: str, item: Item) -> int:
    """The errno with which the kernel refuses the steps of a change, tried all the same."""
    _, node = open_end(LiveHost(), path, follow=False)
    assert node is not None
    try:
        take(node, item.change.steps)
    except OSError as error:
        return error.errno or 0
    finally:
        node.close()
    return 0


def changes_as_this_process(
    world: World, dice: random.Random, history: SqliteHistory
) -> tuple[int, list[str], set[str]]:
    """Change every path once: how many there were, what was not as planned, and where the refused was tried."""
    host = LiveHost(world.people)
    tried = 0
    wrong: list[str] = []
    done: list[IntendedChange] = []
    attempted: set[str] = set()
    postures = []
    for path in world.objects:
        route, node = open_end(host, path, follow=False)
        if node is None or route.end is None:
            continue
        node.close()
        postures.append(route.end.posture)
        target = Target(path, route, found := survey_of_one(route.end), found.profile >= 0, False)
        wish = any_wish(world, dice, postures)
        made = make_plan(host, [target], wish, count=False, through_flags=dice.random() < 0.5)
        for item in made.items():
            tried += 1
            about = f"{path}: {item.change} for {wish}"
            if item.change.errno:
                if item.change.steps != item.change.steps.__class__():  # else it was not for the kernel to refuse
                    found_errno = attempt(path, item)
                    attempted.add(path)
                    if found_errno != item.change.errno:
                        wrong.append(f"errno {found_errno} on {about}")
                continue
            if not item.change.changes:
                continue
            for step in apply(host, [item], lambda: False):
                wrong += (f"{one.error} on {about}; it is {state_of(path)}" for one in step.told)
                done.append(IntendedChange(item.path, item.identity, item.change))
    history.begin(RunBeginning(0, None, ("test",)), done)
    return tried, wrong, attempted


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


def give_to_root(history: SqliteHistory) -> None:
    for path in (history.place, os.path.dirname(history.place)):
        os.chown(path, 0, 0)


def put_all_back(world: World, history: SqliteHistory) -> list[str]:
    """Put back the latest run; the paths where that failed."""
    entries = history.entries(history.runs()[0].number)[::-1]
    host = LiveHost(world.people)
    despite = UndoTerms(privilege=True)
    finds = list(find(host, entries, despite))
    told = (one for tried in put_back(host, finds, lambda: False, despite=despite) for one in tried.told)
    return [entries[one.place].path for one in told if one.error is not None]


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
