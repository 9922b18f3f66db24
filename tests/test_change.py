"""Planned changes against what the kernel makes of them, on generated worlds."""

import random

import pytest

from fiat.core.edit import change_mode
from fiat.core.mode import parse_change
from fiat.core.principals import user
from fiat.core.route import open_end
from fiat.host.live import LiveHost
from filesystems import ROOT, fresh
from kernel import as_somebody
from worlds import World

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


def changes_as_this_process(world: World, dice: random.Random) -> list[Outcome]:
    """Change every path once; what differs from the plan, and how many were tried."""
    host = LiveHost(world.people)
    actor = host.actor()
    wrong: list[Outcome] = [("tried", 0, 0)]
    for path in world.paths:
        route, node = open_end(host, path)
        if node is None or route.end is None:
            continue
        word = any_change(dice)
        edit = change_mode(route.end, parse_change(word), actor, host.settings.umask)
        number = 0
        try:
            node.change_mode(edit.requested)
        except OSError as error:
            number = error.errno or 0
        after = node.look().posture
        node.close()
        wrong[0] = ("tried", len(world.paths), 0)
        # flags may hide from an ordinary user once the mode has changed
        if number != edit.errno or after._replace(flags=()) != edit.after._replace(flags=()):
            wrong.append((f"{word} on {path} with {route.end.posture}", (edit.errno, edit.after), (number, after)))
    return wrong


@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs", "tmpfs"])
def test_what_was_planned_is_what_happens(kind: str) -> None:
    with fresh(kind) as top:
        for seed in range(1, 13):
            world = World(top, seed)
            dice = random.Random(seed)
            actors = [user(account, world.people.gids_of(account)) for account in world.people.users[:5]]
            for who in actors if ROOT else [None]:
                tried, *wrong = as_somebody(who, lambda: changes_as_this_process(world, dice))  # noqa: B023
                assert not wrong, wrong[0]
                assert tried[1]
