"""Planned changes against what the kernel makes of them, on generated worlds."""

import random

import pytest

from fiat.core.accesslist import Entry, Tag
from fiat.core.edit import Edit, Wish, make
from fiat.core.host import Node
from fiat.core.mode import parse_change
from fiat.core.principals import user
from fiat.core.route import open_end
from fiat.host.live import LiveHost
from filesystems import ROOT, fresh
from kernel import as_somebody
from worlds import UIDS, World

Outcome = tuple[str, object, object]


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


def any_wish(world: World, dice: random.Random) -> Wish:
    """A random change of mode, of entries, or of both."""
    mode = parse_change(any_change(dice)) if dice.random() < 0.7 else None
    entries: list[Entry] = []
    no_entries: list[Entry] = []
    if mode is None or dice.random() < 0.3:
        some = list(world.access_list().entries)
        entries = dice.sample(some, dice.randint(1, len(some)))
        no_entries = [Entry(Tag.NAMED_USER, 0, uid) for uid in dice.sample(UIDS, 2)]
    return Wish(mode, tuple(entries), tuple(no_entries))


def apply(node: Node, edit: Edit) -> None:
    """Ask the kernel for what was planned, or, where it should refuse, for anything of the kind."""
    if edit.errno:
        node.change_mode(edit.object.posture.mode)
    if edit.mode is not None:
        node.change_mode(edit.mode)
    if edit.acl is not None:
        node.change_list(edit.acl)


def changes_as_this_process(world: World, dice: random.Random) -> tuple[int, list[Outcome]]:
    """Change every path that can be opened once: how many there were, and what differs from the plan."""
    host = LiveHost(world.people)
    actor = host.actor()
    tried = 0
    wrong: list[Outcome] = []
    for path in world.paths:
        route, node = open_end(host, path)
        if node is None or route.end is None:
            continue
        edit = make(route.end, any_wish(world, dice), actor, host.settings.umask, world.people)
        number = 0
        try:
            apply(node, edit)
        except OSError as error:
            number = error.errno or 0
        after = node.look().posture
        node.close()
        tried += 1
        # flags may hide from an ordinary user once the mode has changed
        word = f"{edit.mode}, {edit.acl}"
        if number != edit.errno or after._replace(flags=()) != edit.after._replace(flags=()):
            wrong.append((f"{word} on {path} with {route.end.posture}", (edit.errno, edit.after), (number, after)))
    return tried, wrong


@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs", "tmpfs"])
def test_what_was_planned_is_what_happens(kind: str) -> None:
    total = 0
    with fresh(kind) as top:
        for seed in range(1, 41):
            with World(top, seed) as world:
                dice = random.Random(seed)
                everyone = [user(account, world.people.gids_of(account)) for account in world.people.users]
                for who in dice.sample(everyone, 4) if ROOT else [None]:
                    tried, wrong = as_somebody(who, lambda: changes_as_this_process(world, dice))  # noqa: B023
                    assert not wrong, wrong[0]
                    total += tried
    assert total > (1000 if ROOT else 100)
