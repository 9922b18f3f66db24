"""Every command that writes, as root, on trees in which others put something else in the place of what is there."""

import os
import random

import pytest

import fiat.cli.commands.check  # loaded before the children that swap
import fiat.cli.commands.restore  # noqa: F401
from support.racing import Arena, attacked, swapped_at
from support.times import SEED, TIMES, report

COMMANDS = ("set", "owner", "flags", "let", "one", "check", "posture", "restore", "arrange", "undo")


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.parametrize("command", COMMANDS)
def test_nothing_outside_is_touched_whatever_is_swapped_at_any_time(command: str, folder: str) -> None:
    rounds = swaps = 0
    for owns_top in (False, True):
        arena = Arena(_fresh(folder, owns_top), owns_top=owns_top)
        before = arena.untouchable()
        # what a given name leads to when it is first looked up is meant: here only what lies below is swapped
        arena.pairs = [pair for pair in arena.pairs if command != "one" or not pair[0].endswith(("/a", "/b", "/b/f"))]
        with attacked(arena, SEED) as count:
            for number in range(8 * TIMES):
                arena.run(*arena.commands()[command][number % 2])
                rounds += 1
                assert arena.untouchable() == before, (command, number)
            swaps += count()
    report(command, rounds=rounds, swaps=swaps)


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.parametrize("command", COMMANDS)
def test_nothing_outside_is_touched_whatever_is_swapped_at_a_moment(command: str, folder: str) -> None:
    dice = random.Random(SEED)
    arena = Arena(_fresh(folder, True), owns_top=True)
    before = arena.untouchable()
    rounds = struck = 0
    while struck < 15 * TIMES:
        pair = dice.choice(arena.pairs)
        words = arena.commands()[command]
        arena.run(*words[rounds % 2])
        rounds += 1
        assert rounds < 400 * TIMES, (command, struck)
        with swapped_at(arena, 10**9, pair) as looked_up:  # how many moments there are
            arena.run(*words[rounds % 2])
        arena.run(*words[(rounds + 1) % 2])
        # a single path is followed where it is first looked up, as it was given
        first = 0 if command != "one" else pair[0].count("/") + 2
        moment = dice.randint(first + 1, max(len(looked_up), first + 1))
        with swapped_at(arena, moment, pair) as looked_up:
            arena.run(*words[rounds % 2])
        struck += len(looked_up) >= moment
        assert arena.untouchable() == before, (command, moment, pair)
    report(command, rounds=rounds, struck=struck)


def _fresh(folder: str, owns_top: bool) -> str:
    path = f"{folder}/{'owner' if owns_top else 'user'}"
    os.mkdir(path, 0o755)
    return path
