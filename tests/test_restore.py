"""Restoring: byte for byte what it was, judged against what was there; only what was lost, or gained, judged by the
kernel's answers; what is another object now is left alone."""

import os
import random
import re
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from fiat.app.change import apply
from fiat.app.compare import ComparedState
from fiat.app.restore import Restored, restore
from fiat.app.save import Destination, save
from fiat.app.undo import put_back, undoing
from fiat.core.change.undo import UndoTerms
from fiat.core.errors import PathError
from fiat.core.state.restoring import RestoreDirection
from fiat.host.accounts.folder import from_folder
from fiat.host.history.sqlite import SqliteHistory
from fiat.host.live.host import LiveHost
from fiat.host.snapshot import reader
from support.estates import Estate, Having, bring_back, crowd, having, keep, remember, write_accounts
from support.files import State as Kept
from support.files import make, mode_of, state_of, states
from support.filesystems import fresh
from support.places import trusted_folder
from support.program import fiat, machine
from support.times import report
from support.weeks import Week
from support.worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_RESTORE", "6"))
FIRST = int(os.environ.get("FIAT_JUDGE_SEED", "0"))


def postures(told: Any) -> dict[str, Any]:
    """What each path is put back to, by a preview's JSON."""
    return {one["path"]: one["after"] for one in told["results"]}


def changed_estate(
    top: str, seed: int, people: LiveHost, held: Path, look: Callable[[Estate], None] = lambda _: None
) -> tuple[Estate, dict[str, Kept], Week]:
    """An estate that was saved, what everything was then, and the week since; the host must not know its mounts yet."""
    estate = Estate(top, seed)
    was = keep(estate)
    look(estate)
    save(people, [estate.top], Destination(str(held)), across_mounts=True)
    return estate, was, Week(estate, random.Random(seed))


def planned(
    held: Path, host: LiveHost, only: RestoreDirection = RestoreDirection.EVERYTHING, *, through_flags: bool = False
) -> Restored:
    """What restoring would do on this host."""
    problems: list[PathError] = []
    states = ComparedState("then", reader.read(str(held)), str(held), None), ComparedState("live", host, None, None)
    return restore(*states, only=only, problem=problems.append, through_flags=through_flags, privilege=True)


@pytest.mark.root
@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs"])
def test_everything_is_put_back_byte_for_byte_and_undone_again(kind: str, tmp_path: Path) -> None:
    """What is the same object is what it was; what is another one, new, or protected stays; and undo undoes it."""
    write_accounts(str(tmp_path))
    accounts = from_folder(str(tmp_path))
    back = left = 0
    with protections(), fresh(kind) as top, trusted_folder() as place:
        for seed in range(FIRST + 1400, FIRST + 1400 + 3 * SEEDS):
            held = tmp_path / f"{seed}.jsonl.zst"
            people = LiveHost(accounts)
            estate, was, week = changed_estate(top, seed, people, held)
            with estate:
                now = keep(estate)
                found = planned(held, people, through_flags=seed % 2 == 0)
                alone = {path for one in found.left for _, path in one.survey.paths_of(one.places.tolist())}
                history = SqliteHistory(f"{place}/{seed}.db")
                problems: list[PathError] = []
                apply(found.planned, history, problem=problems.append)
                failed = {problem.path for problem in problems}
                for path, state in keep(estate).items():
                    if path in alone or path in failed:
                        assert state == now[path], path
                        left += 1
                    else:
                        (old,) = [one for one, new in week.now.items() if new == path]
                        assert state == was[old], (path, old)
                        back += state != now[path]
                if found.planned.plan.change_count and history.runs():
                    undone = undoing(people, history, despite=UndoTerms(privilege=True))
                    put_back(undone, history, problem=problems.append)
                    assert keep(estate) == now
    report(f"restored on {kind}", back=back, left=left)
    assert back > SEEDS
    assert left > SEEDS


def _inodes(top: str) -> dict[str, int]:
    return {path: os.lstat(path).st_ino for path in states(top)}


@pytest.mark.root
def test_what_was_shut_away_then_is_not_opened_by_giving_back_what_was_lost(folder: str) -> None:
    """A file that everyone might have read behind a closed directory: opened since, and the file closed since."""
    shut = make(f"{folder}/shut", 0o700, directory=True)
    file = make(f"{shut}/file", 0o644)
    fiat("save", shut, "-o", f"{folder}/then.jsonl")
    os.chmod(shut, 0o755)
    os.chmod(file, 0o600)
    told = machine("restore", f"{folder}/then.jsonl", "--only-lost", "--preview")
    assert not told["gains"]
    assert told["left_alone"] == {"opens-more": [file]}
    os.chmod(shut, 0o700)
    assert not machine("restore", f"{folder}/then.jsonl", "--only-lost", "--preview")["gains"]


@pytest.mark.root
@pytest.mark.parametrize("only", [RestoreDirection.LOST, RestoreDirection.GAINED])
def test_only_one_direction(only: RestoreDirection, tmp_path: Path) -> None:
    """The kernel is asked before and after: nobody loses anything by giving back, or gets what they had not at first,
    and nobody gains by taking away."""
    write_accounts(str(tmp_path))
    accounts = from_folder(str(tmp_path))
    moved = told = 0
    with protections(), fresh("here") as top, crowd() as everyone:
        for seed in range(FIRST + 1530, FIRST + 1530 + 2 * SEEDS):
            held = tmp_path / f"{seed}.jsonl.zst"
            people = LiveHost(accounts)
            had: list[Having] = []
            inodes: dict[str, int] = {}

            def look(estate: Estate) -> None:
                remember(estate)
                had.append(having(estate, everyone))  # noqa: B023
                inodes.update(_inodes(estate.top))  # noqa: B023

            estate, was, week = changed_estate(top, seed, people, held, look)
            with estate:
                remember(estate)
                kept = keep(estate)
                before = having(estate, everyone)
                found = planned(held, people, only)
                failed: list[PathError] = []
                apply(found.planned, None, problem=failed.append)
                tried = {item.path for item in found.planned.plan.to_write()} - {one.path for one in failed}
                old = {new: one for one, new in week.now.items()}
                for path in tried:
                    assert (state_of(path) == was[old[path]]) == (path not in found.otherwise), (seed, path)
                told += len(tried)
                remember(estate)
                after = having(estate, everyone)
                if only is RestoreDirection.LOST:
                    assert before <= after, (seed, sorted(before - after)[:3])
                    assert not found.planned.plan.losses
                    same = {path for path, inode in _inodes(estate.top).items() if inodes.get(path) == inode}
                    more = {one for one in after - before if one[2] in same and one[1] in ("read", "write", "execute")}
                    assert more <= had[0], (seed, sorted(more - had[0])[:3])
                else:
                    assert after <= before, (seed, sorted(after - before)[:3])
                    assert not found.planned.plan.gains
                moved += len(before ^ after)
                bring_back(estate, kept)
    report(f"only {only.value}", shifts=moved)
    assert moved > 4 * SEEDS
    assert told


def test_what_is_cut_short_is_put_back_as_far_as_it_goes(tmp_path: Path) -> None:
    """Wherever it was cut, what is put back is what the whole snapshot would, and the rest is said not to be known."""
    top = tmp_path / "top"
    for folder in ("a", "b", "c"):
        os.makedirs(top / folder)
        for name in "123":
            make(str(top / folder / name), 0o640)
    whole = tmp_path / "whole.jsonl"
    assert fiat("save", str(top), "-o", str(whole)).returncode == 0
    for path in top.glob("*/*"):
        path.chmod(0o600)
    everything = postures(machine("restore", str(whole), "--preview"))
    assert len(everything) == 9
    counts = set()
    data = whole.read_bytes()
    for end in range(data.index(b'{"profiles"'), len(data) - 1, 160):
        cut = tmp_path / "cut.jsonl"
        cut.write_bytes(data[:end])
        assert "--incomplete uses it" in fiat("restore", str(cut), "--preview").stderr
        told = machine("restore", str(cut), "--preview", "--incomplete", status=3)
        assert "cut-short" in [one["code"] for one in told["caveats"]]
        found = postures(told)
        assert found.items() <= everything.items()
        counts.add(len(found))
    assert len(counts) > 2
    assert 0 in counts


@pytest.mark.parametrize("births", [True, False])
def test_what_perhaps_moved_is_left_alone(births: bool, tmp_path: Path) -> None:
    """The number of an inode is given to the next file: without the moment of its birth nothing proves a move."""
    top = tmp_path / "top"
    os.mkdir(top)
    for name in ("stays", "moves"):
        make(str(top / name), 0o640)
    held = tmp_path / "held.jsonl"
    assert fiat("save", str(top), "-o", str(held)).returncode == 0
    for path in top.iterdir():
        path.chmod(0o600)
    os.rename(top / "moves", top / "moved")
    if not births:
        held.write_text(re.sub(r'"birth": (\d+|\{[^}]*\})', '"birth": 0', held.read_text()))
    told = machine("restore", str(held), "--preview")
    back = {"stays", "moved"} if births else {"stays"}
    assert {os.path.basename(path) for path in postures(told)} == back
    assert told["left_alone"].get("perhaps-moved", []) == ([] if births else [f"{top}/moved"])
    if not births:
        assert (
            "1 object perhaps moved, which nothing proves, and left alone"
            in fiat("restore", str(held), "--preview").stdout
        )


@pytest.mark.root
def test_privilege_comes_back_only_to_what_it_was(tmp_path: Path) -> None:
    """Setuid is put back on the same contents, whatever times say; else it is left off and told."""
    with fresh("here") as top:
        for name in ("same", "other", "open"):
            make(f"{top}/{name}", 0o4755, text=b"program")
        held = tmp_path / "before.jsonl"
        assert fiat("save", top, "-o", str(held)).returncode == 0
        for name, mode in (("same", 0o700), ("other", 0o700), ("open", 0o757)):
            os.chmod(f"{top}/{name}", mode)
        times = os.stat(f"{top}/other")
        Path(f"{top}/other").write_bytes(b"PROGRAM")
        os.utime(f"{top}/other", ns=(times.st_atime_ns, times.st_mtime_ns))
        told = machine("restore", str(held), "--no-history")
        assert told["left_alone"]["privilege"] == [f"{top}/open", f"{top}/other"]
        assert [mode_of(f"{top}/{name}") for name in ("same", "other", "open")] == [0o4755, 0o755, 0o755]
        told = machine("restore", str(held), "--no-history", "--accept", "privilege")
        assert told["changed"] == 2
        assert state_of(f"{top}/same")[0] == state_of(f"{top}/other")[0]
        os.rename(f"{top}/same", f"{top}/elsewhere")
        os.chmod(f"{top}/elsewhere", 0o700)
        make(f"{top}/same", 0o600)
        told = machine("restore", str(held), "--no-history")
        assert [one["path"] for one in told["results"]] == [f"{top}/elsewhere"] or told["left_alone"]
        assert os.stat(f"{top}/same").st_mode & 0o777 == 0o600, "another object of the same name is left alone"


def test_on_the_sample_host() -> None:
    """Without privilege, between the two states that Fiat comes with."""
    words = ("restore", "skerry", "--from", "skerry-later", "--preview")
    told = machine(*words)
    paths = {one["path"] for one in told["results"]}
    assert "/srv/skerry/keys" in paths
    assert told["left_alone"]["replaced"] == ["/srv/skerry/tools/ring-bell"]
    assert not told["gains"]
    lost = machine(*words, "--only-lost")
    assert not lost["results"]
    assert fiat("restore", "skerry", "--from", "skerry-later").returncode == 2
    assert fiat("restore", "live").returncode == 2


@pytest.mark.root
def test_killed_at_any_moment_it_can_be_undone(tmp_path: Path) -> None:
    """Whatever a restore had changed when it was killed, its undo brings back what was there before it."""
    with fresh("here") as top, trusted_folder() as place:
        for number in range(2500):
            make(f"{top}/{number}", 0o640)
        held, history = str(tmp_path / "before.jsonl.zst"), f"{place}/history.db"
        assert fiat("save", top, "-o", held).returncode == 0
        for number in range(2500):
            os.chmod(f"{top}/{number}", 0o666)
        now = states(top)
        command = [sys.executable, "-m", "fiat", "restore", held, "--history", history, "--quiet"]
        begun = time.monotonic()
        subprocess.run(command, check=True)
        whole_run = time.monotonic() - begun
        assert {mode_of(f"{top}/{number}") for number in range(2500)} == {0o640}
        assert fiat("undo", "--history", history).returncode == 0
        partly = 0
        for part in range(5, 15):
            with subprocess.Popen(command) as running:
                try:
                    running.wait(whole_run * part / 15)
                except subprocess.TimeoutExpired:
                    running.kill()
            partly += {mode_of(f"{top}/{number}") for number in range(2500)} == {0o640, 0o666}
            fiat("undo", "--history", history)
            assert states(top) == now, part
        report("killed while restoring", changed_in_part=partly)
