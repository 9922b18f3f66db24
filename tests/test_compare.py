"""Comparing: what is said to differ did; who is said to have gained or lost is who the kernel lets, or does not."""

import os
import random
import subprocess
import sys
from datetime import datetime, timedelta, timezone
from pathlib import Path

import pytest

from fiat.app.compare import ComparedState, compared
from fiat.app.save import Destination, save
from fiat.app.times import Edge, parse_time
from fiat.core.errors import NotationError
from fiat.core.model.principals import Principal
from fiat.core.rules import difference
from fiat.core.state.comparison import Comparison
from fiat.core.words import naming
from fiat.host.accounts.folder import from_folder
from fiat.host.live.host import LiveHost
from fiat.host.snapshot import reader
from support.estates import GROUPS, Estate, Having, Shifts, crowd, having, people, remember, write_accounts
from support.files import make
from support.filesystems import fresh
from support.program import fiat, machine
from support.times import report
from support.weeks import Week
from support.worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_COMPARE", "6"))
FIRST = int(os.environ.get("FIAT_JUDGE_SEED", "0"))


def regrouped() -> dict[str, Principal]:
    """Everyone a week later: the auditor has left watch as second group, tidefeed joined stewards."""
    found = people()
    tidefeed, surveyor = found["tidefeed"], found["surveyor"]
    found["tidefeed"] = tidefeed._replace(gids=tidefeed.gids | {GROUPS["stewards"]})
    found["surveyor"] = surveyor._replace(gids=surveyor.gids - {GROUPS["watch"]})
    return found


def write_later(folder: str) -> None:
    """The accounts files of a week later."""
    os.makedirs(folder)
    write_accounts(folder)
    text = Path(f"{folder}/group").read_text()
    text = text.replace("stewards:x:31003:steward", "stewards:x:31003:steward,tidefeed").replace(
        "surveyor,auditor", "auditor"
    )
    Path(f"{folder}/group").write_text(text)


def counted(week: Week, before: Having, after: Having) -> tuple[Shifts, Shifts]:
    """What the kernel says was gained, and lost, on what was there before and is there now."""
    then = {(who, right, week.now[path]) for who, right, path in before if path in week.now}
    now = {(who, right, path) for who, right, path in after if path not in week.new}
    return tuple(  # type: ignore[return-value]
        Shifts((who, right) for who, right, _ in some) for some in (now - then, then - now)
    )


def told(found: Comparison, *, gained: bool) -> tuple[Shifts, Shifts]:
    """What the comparison says, by who and right: of all of it, and put together from the causes."""
    shifts = found.effects.gains if gained else found.effects.losses
    whole = Shifts({(naming.word_for(one.principal), one.right.name): one.paths for one in shifts})
    causes: Shifts = Shifts()
    for cell in found.cells:
        if cell.gained == gained:
            for who in found.universe.members(cell.bits):
                for right, paths in cell.rights.items():
                    causes[naming.word_for(who), right.name] += paths
    return whole, causes


@pytest.mark.root
@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs"])
def test_who_gained_and_who_lost_is_what_the_kernel_says(kind: str, tmp_path: Path) -> None:
    """Modes, owners, lists, moves, new and other files, memberships: a week of them, between a snapshot and today."""
    shifts = moved = 0
    write_accounts(str(tmp_path))
    later = str(tmp_path / "later")
    write_later(later)
    with protections(), fresh(kind) as top, crowd() as everyone, crowd(regrouped()) as others:
        for seed in range(FIRST, FIRST + SEEDS):
            with Estate(top, 1200 + seed) as estate:
                dice = random.Random(seed)
                remember(estate)
                same_people = seed % 2 == 0
                before = having(estate, everyone)
                held = tmp_path / f"{seed}.jsonl.zst"
                save(LiveHost(from_folder(str(tmp_path))), [estate.top], Destination(str(held)), across_mounts=True)
                week = Week(estate, dice)
                remember(estate)
                after = having(estate, everyone if same_people else others)
                now = LiveHost(from_folder(str(tmp_path) if same_people else later))
                states = (
                    ComparedState("then", reader.read(str(held)), str(held), None),
                    ComparedState("live", now, None, None),
                )
                found = compared(*states)
                assert found is not None
                gains, losses = counted(week, before, after)
                assert told(found, gained=True) == (gains, gains), (kind, seed)
                assert told(found, gained=False) == (losses, losses), (kind, seed)
                (tree,) = found.trees
                really = {(was, path) for was, path in week.now.items() if was != path}
                pairs = zip(tree.matching.before.tolist(), tree.matching.after.tolist(), strict=True)
                said = {(tree.pair.before.survey.path(one), tree.pair.after.survey.path(other)) for one, other in pairs}
                assert {pair for pair in said if pair[0] != pair[1]} == really, (kind, seed)
                shifts += sum(gains.values()) + sum(losses.values())
                moved += len(really)
                report(f"compared {kind} {seed}", shifts=shifts, moved=moved)
    assert shifts > 50 * SEEDS


@pytest.mark.root
def test_a_fault_where_answers_are_compared_is_seen(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What the judge above would not notice, it would never tell."""
    held = str(tmp_path / "before.jsonl")
    with fresh("here") as top:
        os.chmod(top, 0o700)
        save(LiveHost(), [top], Destination(held))
        os.chmod(top, 0o755)
        states = ComparedState("then", reader.read(held), held, None), ComparedState("live", LiveHost(), None, None)
        found = compared(*states)
        assert found is not None
        assert found.effects.gains
        monkeypatch.setattr(difference, "_newly", lambda one, other: {})
        nothing = compared(*states)
        assert nothing is not None
        assert not nothing.effects.gains


# --- the program ---------------------------------------------------------------------------


def test_the_sample_host_a_week_later() -> None:
    told = machine("compare", "skerry", "skerry-later", status=1)
    changes = {one["path"]: one["change"] for one in told["results"]}
    assert changes["/srv/skerry/keys"] == "changed"
    assert changes["/srv/skerry/charts/print/approach-8.chart"] == "moved"
    assert changes["/srv/skerry/tools/ring-bell"] == "replaced"
    assert changes["/srv/skerry/dropbox/from-surveyor.txt"] == "gone"
    assert changes["/srv/skerry/gauge/raw/0413.csv"] == "new"
    (moved,) = [one for one in told["results"] if one["change"] == "moved"]
    assert (moved["was"], moved["perhaps"]) == ("/srv/skerry/charts/draft/approach.chart", True)
    assert ("surveyor", "traverse", 5) in [(one["who"], one["right"], one["paths"]) for one in told["gains"]]
    assert all(1 <= len(one["topmost"]) <= one["paths"] and not one["more"] for one in told["gains"])
    kinds = {one["cause"]["kind"] for one in told["causes"]}
    assert kinds == {"posture", "membership", "mount", "moved"}
    assert {"user": "surveyor", "change": "joined", "was": None, "now": "watch"} in told["accounts"]
    assert [one["point"] for one in told["mounts"]] == ["/mnt/vault"]
    said = fiat("compare", "skerry", "skerry-later", "--gains-only").stdout.splitlines()[-1]
    assert said.strip() == "fiat restore skerry --only-gained --from skerry-later --preview"
    assert fiat(*said.split()[1:]).returncode == 0, "what it says to type does work"
    only = machine("compare", "skerry", "skerry-later", "/srv/skerry/series", "--gains-only", status=1)
    assert [one["path"] for one in only["results"]] == ["/srv/skerry/series/reduced-2026.csv"]
    assert not only["losses"]
    assert not machine("compare", "skerry", "skerry")["gains"]
    assert told["not_compared"] == 0


def test_what_a_file_holds_is_a_cause_and_so_is_another_file(tmp_path: Path) -> None:
    """The same posture, and others may run it now: by what it holds, or because it is another file."""
    for name in ("edited", "replaced"):
        make(f"{tmp_path}/{name}", 0o755, text=b"words\n")
    held = f"{tmp_path}/held.jsonl"
    assert fiat("save", f"{tmp_path}/edited", f"{tmp_path}/replaced", "-o", held).returncode == 0
    (tmp_path / "edited").write_bytes(b"#!/bin/sh\n")
    os.rename(make(f"{tmp_path}/other", 0o755, text=b"#!/bin/sh\n"), f"{tmp_path}/replaced")
    told = machine("compare", held, "live", status=1)
    gained = {one["first"]: one["cause"]["kind"] for one in told["causes"] if "execute" in one["rights"]}
    assert gained == {f"{tmp_path}/edited": "program", f"{tmp_path}/replaced": "replaced"}


@pytest.mark.root
def test_equal_changes_of_several_paths_are_one_cause(folder: str) -> None:
    os.chmod(folder, 0o755)
    tree = make(f"{folder}/tree", 0o755, directory=True)
    paths = [make(f"{tree}/{name}", 0o600) for name in ("a", "b", "c")]
    os.chown(paths[1], 0, 7)  # what was the same before and is the same after keeps no two changes apart
    held = f"{folder}/held.jsonl"
    assert fiat("save", tree, "-o", held).returncode == 0
    for path, mode in zip(paths, (0o644, 0o644, 0o604), strict=True):
        os.chmod(path, mode)
    told = machine("compare", held, "live", status=1)
    found = [(one["rights"], one["first"]) for one in told["causes"] if "anyone-else" in one["who"]]
    assert found == [({"read": 2}, paths[0]), ({"read": 1}, paths[2])]


@pytest.mark.root
def test_what_is_in_something_new_was_moved_there_and_a_number_used_again_is_another_file() -> None:
    with fresh("ext4") as top:
        tree = make(f"{top}/tree", 0o755, directory=True)
        for name in ("kept", "old"):
            make(f"{tree}/{name}", 0o644)
        held = f"{top}/held.jsonl"
        assert fiat("save", tree, "-o", held).returncode == 0
        os.mkdir(f"{tree}/new")
        os.rename(f"{tree}/kept", f"{tree}/new/kept")
        number = os.stat(f"{tree}/old").st_ino
        os.unlink(f"{tree}/old")
        made = [make(f"{tree}/made{count}", 0o644) for count in range(4)]
        assert number in [os.stat(path).st_ino for path in made], "ext4 gives a number that is free again"
        changes = {one["path"]: one["change"] for one in machine("compare", held, "live", tree, status=1)["results"]}
        assert changes == {
            f"{tree}/new": "new",
            f"{tree}/new/kept": "moved",
            f"{tree}/old": "gone",
            **dict.fromkeys(made, "new"),
        }


def test_a_folder_at_a_time(tmp_path: Path) -> None:
    """Of a folder it is the last snapshot, or the last one up to a time."""
    tree, saved = tmp_path / "tree", tmp_path / "saved"
    tree.mkdir()
    for name, mode in (("2026-11-20T040000Z", 0o700), ("2026-11-21T040000Z", 0o750), ("2026-11-22T040000Z", 0o755)):
        os.chmod(tree, mode)
        assert fiat("save", str(tree), "--add", str(saved)).returncode == 0
        (last,) = [one for one in os.listdir(saved) if not one.startswith("2026-11-2") or one > "2026-11-22T040000Z.z"]
        os.rename(saved / last, saved / f"{name}.jsonl.zst")
    assert fiat("compare", str(saved), "live").returncode == 0
    told = machine("compare", str(saved), "live", "--at", "2026-11-20T23:00+00:00", status=1)
    assert told["results"][0]["before"]["mode"] == "0700"
    refused = fiat("compare", str(saved), "live", "--at", "2026-11-19 12:00")
    assert refused.returncode == 2
    assert "the first snapshot is of" in refused.stderr


def test_paths_start_from_here_and_the_status_is_known_before_a_reader_goes(tmp_path: Path) -> None:
    for name in ("tree", "other"):
        (tmp_path / name).mkdir()
    assert fiat("save", "tree", "other", "-o", "held.jsonl", cwd=str(tmp_path)).returncode == 0
    os.chmod(tmp_path / "tree", 0o700)
    assert fiat("compare", "held.jsonl", "live", "tree", cwd=str(tmp_path)).returncode == 1
    assert fiat("compare", "held.jsonl", "live", "other", cwd=str(tmp_path)).returncode == 0
    assert "0700" in fiat("restore", "held.jsonl", "tree", "--preview", cwd=str(tmp_path)).stdout
    reader_, writer = os.pipe()
    os.close(reader_)
    with open(writer, "w") as gone:
        command = [sys.executable, "-m", "fiat", "compare", "held.jsonl", "live"]
        assert subprocess.run(command, stdout=gone, stderr=subprocess.DEVNULL, cwd=tmp_path).returncode == 1


_DAYS = ("Yesterday", "today", "monday", "2026-11-25")


@pytest.mark.parametrize(
    ("word", "means"),
    [
        ("now", "2026-11-26 12:30"),
        ("3 hours ago", "2026-11-26 09:30"),
        ("a week ago", "2026-11-19 12:30"),
        ("yesterday 18:00", "2026-11-25 18:00"),
        ("Yesterday", "2026-11-25 23:59"),
        ("today", "2026-11-26 12:30"),
        ("today 8:15", "2026-11-26 08:15"),
        ("07:09", "2026-11-26 07:09"),
        ("18:00", "2026-11-25 18:00"),
        ("5m", "2026-11-26 12:25"),
        ("90 s", "2026-11-26 12:28"),
        ("2 hours", "2026-11-26 10:30"),
        ("1h ago", "2026-11-26 11:30"),
        ("monday", "2026-11-23 23:59"),
        ("thursday 9:00", "2026-11-26 09:00"),
        ("thursday 18:00", "2026-11-19 18:00"),
        ("2026-11-25", "2026-11-25 23:59"),
        ("2026-11-25 18:00", "2026-11-25 18:00"),
        ("2026-11-25T18:00:00Z", "2026-11-25 19:00"),
    ],
)
def test_times_as_people_say_them(word: str, means: str) -> None:
    """2026-11-26 is a Thursday; the zone is an hour east of Greenwich."""
    zone = timezone(timedelta(hours=1))
    found = parse_time(word, datetime(2026, 11, 26, 12, 30, tzinfo=zone))
    assert f"{found.astimezone(zone):%Y-%m-%d %H:%M}" == means
    day = parse_time(word, datetime(2026, 11, 26, 12, 30, tzinfo=zone), Edge.BEGINNING).astimezone(zone)
    assert f"{day:%Y-%m-%d %H:%M}" == (means[:11] + "00:00" if word in _DAYS else means)
    for wrong in ("5x", "24:30", "soon", "yesterday noon", "2026-13-01", "9999999 weeks ago", ""):
        with pytest.raises(NotationError):
            parse_time(wrong, datetime(2026, 11, 26, 12, 30, tzinfo=zone))


def test_an_empty_word_is_not_everything() -> None:
    """It is most often a variable of a script that was never set."""
    for words in (
        ("compare", "skerry", "skerry-later", ""),
        ("restore", "skerry", "", "--from", "skerry-later", "--preview"),
        ("compare", "skerry", "skerry-later", "", "--gains-only"),
    ):
        done = fiat(*words)
        assert (done.returncode, done.stderr.count("\n")) == (2, 1), words
        assert "No such file or directory" in done.stderr
        assert "Gains" not in done.stdout
