"""The judge of changes: what a plan says against what the kernel makes of it, on generated worlds."""

import os
import random
from collections.abc import Sequence
from typing import NamedTuple

from fiat.core.change.apply import apply
from fiat.core.change.copyup import in_upper_layers
from fiat.core.change.history import Intended, RunBeginning
from fiat.core.change.making import make_plan
from fiat.core.change.planned import Item, Items
from fiat.core.change.rewriting import take
from fiat.core.change.target import Target
from fiat.core.change.undo import UndoTerms, find, put_back
from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import FLAGS, Posture
from fiat.core.model.principals import Principal
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.walk import open_end
from fiat.host.history.sqlite import SqliteHistory
from fiat.host.live.host import LiveHost
from support.files import state_of
from support.kernel import as_somebody
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


def intended(items: Sequence[Item]) -> Intended:
    """What a history is told of them."""
    changes = [item.change for item in items]
    return Intended([item.path for item in items], [item.identity for item in items], changes, range(len(items)))


def changes_as_this_process(
    world: World, dice: random.Random, history: SqliteHistory | None
) -> tuple[int, list[str], set[str]]:
    """Change every path once: how many there were, what was not as planned, and where the refused was tried."""
    host = LiveHost(world.people)
    tried = 0
    wrong: list[str] = []
    done: list[Item] = []
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
        for item in in_upper_layers(host, Items.of(made.items())):
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
            for step in apply(host, Items.of([item]), lambda: False):
                wrong += (f"{one.error} on {about}; it is {state_of(path)}" for one in step.told)
                done.append(item)
    if history is not None:
        history.begin(RunBeginning(0, None, ("test",)), intended(done))
    return tried, wrong, attempted


class ChangesMade(NamedTuple):
    """How many changes were tried, on which paths what was refused was tried all the same, and where putting back
    failed."""

    tried: int
    attempted: set[str]
    failed: list[str]


def changed_and_put_back(world: World, who: Principal, dice: random.Random, folder: str) -> ChangesMade:
    """Every path changed once by ``who``, as was planned, and put back by root; the history is in ``folder``."""
    history = SqliteHistory(f"{folder_of(who.uid or 0, folder)}/{who.name}.db")
    tried, wrong, attempted = as_somebody(who, lambda: changes_as_this_process(world, dice, history))
    assert not wrong, (who.name, len(wrong), wrong[0])
    give_to_root(history)
    return ChangesMade(tried, attempted, put_all_back(world, history))


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
