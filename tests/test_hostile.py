"""Changing while others do their worst: trees that move under it, and being stopped at any moment."""

import mmap
import os
import random
import signal
import struct
import sys
import time
from contextlib import suppress

import pytest

import fiat.cli.commands.set  # loaded before the children that need it
import fiat.cli.commands.undo  # noqa: F401
from fiat.cli.main import main
from fiat.core.change.apply import apply
from fiat.core.change.making import make_plan
from fiat.core.model.modechange import parse_change
from fiat.core.model.wish import Wish
from fiat.engine import changing as changing
from fiat.host.history.sqlite import SqliteHistory
from fiat.host.live.host import LiveHost
from support.files import in_child, make, mode_of, state_of, states
from support.filesystems import fresh
from support.surveys import target
from support.times import TIMES, report


def a_tree(top: str, folders: int, files: int) -> str:
    """A tree of ``folders`` directories in one another, three to each, with ``files`` files each."""
    make(top, 0o755, directory=True)
    places = [top]
    for number in range(folders):
        places.append(make(f"{places[number // 3]}/d{number}", 0o755, directory=True))
    for place in places:
        for number in range(files):
            make(f"{place}/f{number}", 0o644)
    return top


def swap_for_ever(top: str, outside: str, seed: int, swaps: mmap.mmap) -> None:
    """Put links, symbolic and hard, to what is outside in the place of what is in the tree, and back again.

    Counts them in its place of ``swaps``. Each takes names of its own: two at the same name would now and then lose
    what they hid, and leave the test a tree that withers.

    By handles: else one of these would be led out of the tree by the other's links, and do the damage itself.
    """
    dice = random.Random(seed)
    folders = {os.open(path, os.O_RDONLY): list(names) for path, names, _ in os.walk(top)}
    os.mkdir(f"{top}-hidden-{seed}")
    hidden = os.open(f"{top}-hidden-{seed}", os.O_RDONLY)
    while True:
        place = dice.choice(list(folders))
        name = dice.choice((*folders[place], "f0", "f1"))
        if int(name[1:]) % 2 != seed:
            continue
        with suppress(OSError):
            os.rename(name, "it", src_dir_fd=place, dst_dir_fd=hidden)
            if name.startswith("d"):
                os.symlink(outside, name, dir_fd=place)
            elif dice.random() < 0.5:
                os.symlink(f"{outside}/f0", name, dir_fd=place)
            else:
                os.link(f"{outside}/f0", name, dst_dir_fd=place)
            time.sleep(dice.random() / 2000)
            os.unlink(name, dir_fd=place)
            os.rename("it", name, src_dir_fd=hidden, dst_dir_fd=place)
            _COUNT.pack_into(swaps, 8 * seed, _COUNT.unpack_from(swaps, 8 * seed)[0] + 1)


_COUNT = struct.Struct("Q")


@pytest.mark.root
def test_nothing_outside_the_tree_is_touched_whatever_is_swapped(folder: str) -> None:
    top, outside = a_tree(f"{folder}/tree", 40, 5), a_tree(f"{folder}/outside", 40, 5)
    before = states(outside)
    host = LiveHost()
    swaps = mmap.mmap(-1, 16)  # shared with them
    attackers = [in_child(lambda: swap_for_ever(top, outside, seed, swaps)) for seed in range(2)]  # noqa: B023
    changed = refused = number = 0
    try:
        while min(sum(struct.unpack("2Q", swaps[:])) // 3000, changed // 2000, refused // 20) < TIMES:
            number += 1
            assert number < 3000 * TIMES, (struct.unpack("2Q", swaps[:]), changed, refused)
            wish = Wish(parse_change(("go=", "go=rX")[number % 2]), uid=(0, 7101)[number % 2])
            made = make_plan(host, [target(host, top)], wish)
            if any(guard.code == "hard-links" for guard in made.guards):
                refused += 1  # one of them was there when it was planned: refused, and rightly so
                continue
            for tried in apply(host, made.to_write(), lambda: False):
                changed += tried.end - tried.first - len(tried.told)
                refused += len(tried.told)
            if number % 20 == 0:
                assert states(outside) == before
    finally:
        for attacker in attackers:
            os.kill(attacker, signal.SIGKILL)
            os.waitpid(attacker, 0)
    assert states(outside) == before
    report("swaps", swaps=sum(struct.unpack("2Q", swaps[:])), changed=changed, refused=refused)


@pytest.mark.root
@pytest.mark.parametrize("blow", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
@pytest.mark.parametrize("kind", ["ext4", "tmpfs"])
def test_stopped_at_any_moment_it_can_be_put_back(
    kind: str, blow: signal.Signals, monkeypatch: pytest.MonkeyPatch
) -> None:
    dice = random.Random(blow)
    if kind == "tmpfs":  # by all processors, which is for larger trees otherwise
        monkeypatch.setattr(changing, "_ALONE", 100)
        monkeypatch.setattr(changing, "_PIECE", 40)
    midway = 0
    with fresh(kind) as folder:
        top = a_tree(f"{folder}/tree", 12, 150)
        for path in list(states(top))[::7]:
            os.chmod(path, 0o4755)
        before = states(top)
        place = f"{folder}/history.db"
        accepted = [word for guard in ("from-root", "clears-special", "privilege") for word in ("--accept", guard)]
        words = ["set", top, "--below", "--owner", "7101", "--group", "7201", "--mode", "u=rwX,g=rX,o="]
        words += ["--entry", "user:7105:rX", "--history", place, *accepted]
        begun = time.monotonic()
        os.waitpid(in_child(lambda: main(words)), 0)
        moment = 0.7 * (time.monotonic() - begun)  # when most of it is under way; found out as we go
        assert main(["undo", "--accept", "privilege", "--history", place]) == 0
        rounds = 0
        while rounds < 20 * TIMES or midway < 2 * TIMES:
            rounds += 1
            assert rounds < 300 * TIMES, "it was hardly ever struck in the middle"
            child = in_child(lambda: main(words))
            near = 1 if rounds % 2 else 0.2  # at any moment, and by turns close to where most of it is under way
            time.sleep(moment * (1 + near * (dice.random() - 0.5)))
            os.kill(child, blow)
            os.waitpid(child, 0)
            now = states(top)
            if now == before:
                moment *= 1.1
                continue
            run = SqliteHistory(place).runs()[0]
            changed = sum(now[path] != before[path] for path in before)
            moment *= 0.9 if changed >= run.paths else 1
            midway += 0 < changed < run.paths
            assert main(["undo", "--accept", "privilege", "--history", place]) == 0
            assert states(top) == before
            assert SqliteHistory(place).run(run.number).undone_by == run.number + 1
    report(f"{blow.name} on {kind}", rounds=rounds, struck_midway=midway)


@pytest.mark.root
def test_what_changed_since_it_was_planned_is_left_alone(folder: str) -> None:
    paths = [make(f"{folder}/{name}", 0o600) for name in "abcd"]
    host = LiveHost()
    made = [target(host, path, with_tree=False) for path in paths]
    items = make_plan(host, made, Wish(parse_change("644"))).to_write()
    os.chmod(paths[0], 0o400)
    os.rename(paths[1], f"{folder}/elsewhere")
    os.symlink("/etc/passwd", paths[1])
    os.unlink(paths[2])
    make(paths[2], 0o600)
    passwd = state_of("/etc/passwd")
    told = [one for tried in apply(host, items, lambda: False) for one in tried.told]
    errors = {items[one.place].path: str(one.error) for one in told}
    assert "it was changed meanwhile" in errors[paths[0]]
    assert "another object is there now" in errors[paths[1]]
    assert "another object is there now" in errors[paths[2]]
    assert paths[3] not in errors
    assert [mode_of(path) for path in (paths[0], paths[2], paths[3])] == [0o400, 0o600, 0o644]
    assert mode_of(f"{folder}/elsewhere") == 0o600
    assert state_of("/etc/passwd") == passwd


@pytest.mark.slow
def test_a_very_deep_tree(folder: str) -> None:
    levels = 4000
    top = here = make(f"{folder}/deep", 0o700, directory=True)
    home = os.getcwd()
    os.chdir(here)
    for _ in range(levels):
        os.mkdir("d", 0o700)
        os.chdir("d")
    os.chdir(home)
    sys.stdout.flush()
    where = ["--history", f"{folder}/history.db"]
    try:
        for words in (["set", top, "--below", "--mode", "go=rx", *where], ["undo", *where]):
            assert main(words) == 0
            os.chdir(top)
            modes = set()
            for _ in range(levels):
                modes.add(os.stat(".").st_mode & 0o777)
                os.chdir("d")
            modes.add(os.stat(".").st_mode & 0o777)
            assert modes == {0o755 if words[0] == "set" else 0o700}
    finally:
        os.chdir(home)
        _remove_deep(top, levels)


def _remove_deep(top: str, levels: int) -> None:
    home = os.open(".", os.O_RDONLY)
    os.chdir(top)
    for _ in range(levels):
        os.chdir("d")
    for _ in range(levels):
        os.chdir("..")
        os.rmdir("d")
    os.fchdir(home)
    os.close(home)
