"""Snapshots: what a saved host answers is what the live one does; files whole or refused; nothing through a link."""

import errno
import fcntl
import gzip
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from fiat.app.save import Destination, save
from fiat.core.ask.who import Answer, universe_of
from fiat.core.errors import PathError, SnapshotError
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.principals import unlisted_user
from fiat.core.model.right import ALL, CREATE
from fiat.core.rules.access import Access
from fiat.core.tree.answers import TreeAccess
from fiat.core.tree.reading import survey_at
from fiat.core.tree.walk import Extent, walk
from fiat.demo.sample import SNAPSHOT
from fiat.host.accounts.folder import from_folder
from fiat.host.live.host import LiveHost
from fiat.host.snapshot import reader
from fiat.host.snapshot.files import LONGEST
from support.estates import Estate, write_accounts
from support.files import IMMUTABLE, change_flags, make
from support.filesystems import fresh
from support.json_values import places, put
from support.kernel import STRANGER, bind, stranger_holds, unmount
from support.program import fiat, fiat_as, machine
from support.times import report
from support.verdicts import same_verdicts
from support.worlds import World, protections

SEEDS = int(os.environ.get("FIAT_JUDGE_SNAPSHOTS", "6"))


def kept(host: Host, path: str, file: Path, *, across: bool) -> Host:
    """What is saved of ``path``, read again."""
    problems: list[PathError] = []
    save(host, [path], Destination(str(file)), across_mounts=across, problem=problems.append)
    return reader.read(str(file))


def rows_of(host: Host, top: str, *, across: bool) -> Iterator[tuple[object, ...]]:
    """Everything that is known of each entry of a tree, with who may do what with it; and what is not known."""
    route, survey = survey_at(host, top, Extent(across_mounts=across, details=True))
    universe = universe_of(host.accounts, [one.posture for one in route.objects], profiles=[survey.profiles])
    answers = TreeAccess(host, Access(universe, host.settings), ALL).answers(survey, route)
    yield [(who.kind, who.name, who.uid, who.gids) for who in universe.principals], survey.troubles, survey.skipped
    for place in range(len(survey)):
        found = survey.object(place)
        status = found.status._replace(changed=None)
        yield found._replace(status=status), dict(zip(ALL, answers.keys[int(answers.number[place])], strict=True))


def compare_paths(live: Host, held: Host, paths: list[str]) -> tuple[int, int]:
    """Ask both the same of each path; how many answers were the same, and how many paths are not in the snapshot."""
    same = outside = 0
    for path in paths:
        one, other = walk(live, path), walk(held, path)
        if other.errno == errno.ENODATA:
            outside += 1
            continue
        assert (one.errno, one.failed_at) == (other.errno, other.failed_at), path
        if one.end is None and one.missing_in is None:
            continue
        rights = (CREATE,) if one.end is None else ALL
        same += same_verdicts(Answer(live, one, rights), Answer(held, other, rights), rights, path)
    return same, outside


@pytest.mark.root
@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs", "tmpfs"])
def test_a_snapshot_answers_as_the_host_that_it_was_taken_of(kind: str, tmp_path: Path) -> None:
    """Uniform worlds and estates that look like real ones; for every right, path by path and the tree at once."""
    same = outside = entries = 0
    with protections(), fresh(kind) as top:
        for seed in range(SEEDS):
            with World(top, 900 + seed) as world:
                live = LiveHost(world.people)
                held = kept(live, world.top, tmp_path / f"w{seed}.jsonl.zst", across=False)
                counts = compare_paths(live, held, world.paths)
                same, outside = same + counts[0], outside + counts[1]
                one, other = list(rows_of(live, world.top, across=False)), list(rows_of(held, world.top, across=False))
                assert one == other
                entries += len(one)
        write_accounts(top)
        people = from_folder(top)
        for seed in range(SEEDS):
            with Estate(top, 950 + seed) as estate:
                across = bool(seed % 2)
                live = LiveHost(people)
                held = kept(live, estate.top, tmp_path / f"e{seed}.jsonl.gz", across=across)
                for below in (estate.top, *estate.directories[1:4]):
                    one, other = list(rows_of(live, below, across=across)), list(rows_of(held, below, across=across))
                    if not across and any(f"{below}/".startswith(f"{mount}/") for mount in estate.mounts):
                        assert other[0][1], "nothing is known of what was left out, and that is said"
                        continue
                    assert one == other, below
                    entries += len(one)
                counts = compare_paths(live, held, [*estate.directories, *estate.files, *estate.links])
                same, outside = same + counts[0], outside + counts[1]
    report(f"snapshots on {kind}", answers=same, outside=outside, entries=entries)
    assert same > 4000 * SEEDS
    assert outside < same / 100


@pytest.mark.slow
def test_no_line_is_longer_than_what_is_read(tmp_path: Path) -> None:
    """Very many entries, names as long as can be, of characters that JSON makes long, and long ways of symlinks."""
    top = tmp_path / "tree"
    for name in ("many", "long", "links"):
        (top / name).mkdir(parents=True)
    for number in range(10_500):
        os.close(os.open(top / "many" / str(number), os.O_CREAT))
    for number in range(3000):
        make(str(top / "long" / (f"{number:05}" + "\x01" * 250)))
    for number in range(600):
        os.symlink("\U0001f30a" * 1000, top / "links" / str(number))
    held = tmp_path / "held.jsonl"
    host = kept(LiveHost(), str(top), held, across=False)
    with open(held, "rb") as lines:
        assert max(map(len, lines)) < LONGEST
    assert len(survey_at(host, str(top))[1]) == len(survey_at(LiveHost(), str(top))[1]) == 10_500 + 3000 + 600 + 4
    assert next(rows_of(LiveHost(), str(top), across=False)) == next(rows_of(host, str(top), across=False))


# --- damage ----------------------------------------------------------------------------


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> tuple[str, Path]:
    """A small tree with something of each kind, and a snapshot of it, not compressed."""
    folder = tmp_path_factory.mktemp("damage")
    top = str(folder / "tree")
    for name in ("a/b", "a/empty", "c"):
        os.makedirs(f"{top}/{name}")
    for name in ("a/one", "a/two\n", "a/b/drei \udcff", "c/x", "zero"):
        make(f"{top}/{name}", 0o640)
    os.symlink("x", f"{top}/c/link")
    save(LiveHost(Accounts((), (), "nobody")), [top], Destination(str(folder / "whole.jsonl")))
    return top, folder / "whole.jsonl"


def test_an_empty_word_is_no_path(tmp_path: Path) -> None:
    """It was a variable of a script that was never set, and not the current directory."""
    done = fiat("save", "", "-o", str(tmp_path / "held.jsonl"))
    assert (done.returncode, (tmp_path / "held.jsonl").exists()) == (2, False), done.stderr


def test_an_older_form_that_is_cut_short_says_so(tmp_path: Path) -> None:
    """Each path is there or not known, and comparing it takes nothing for new."""
    lines = Path(SNAPSHOT).read_bytes().splitlines(keepends=True)
    whole = reader.read(SNAPSHOT)
    cut = tmp_path / "cut.jsonl"
    for end in range(60, len(lines) - 1, 7):
        cut.write_bytes(b"".join(lines[:end]))
        with pytest.raises(SnapshotError):
            reader.read(str(cut))
        host = reader.read(str(cut), incomplete=True)
        for path in whole.objects:
            route = walk(host, path, follow=False)
            assert route.end is not None or route.errno == errno.ENODATA, (end, path)
    done = fiat("who", "/srv/skerry", "--below", "--from", str(cut), "--incomplete")
    assert (done.returncode, "the snapshot is cut short" in done.stdout) == (3, True), done
    told = machine("compare", str(cut), SNAPSHOT, "--incomplete", status=3)
    assert [one for one in told["results"] if one["change"] in ("new", "gone")] == []


def test_what_is_cut_short_is_refused_or_used_as_far_as_it_goes(small: tuple[str, Path], tmp_path: Path) -> None:
    """Wherever it was cut: nothing is said to be missing that was there, and what is not known is said."""
    top, whole = small
    known = {path: walk(reader.read(str(whole)), path, follow=False).end for path in _all_below(top)}
    data = whole.read_bytes()
    assert data.isascii()
    used = unknown = 0
    for end in range(1, len(data) - 1, 13):
        cut = tmp_path / "cut.jsonl"
        cut.write_bytes(data[:end])
        with pytest.raises(SnapshotError):
            reader.read(str(cut))
        try:
            host = reader.read(str(cut), incomplete=True)
        except SnapshotError:
            continue  # not as far as to the top
        used += 1
        for path, whole_one in known.items():
            route = walk(host, path, follow=False)
            assert route.end == whole_one if route.end is not None else route.errno == errno.ENODATA, (end, path)
            unknown += route.end is None
    assert used > 3
    assert unknown > 3
    assert "--incomplete uses it" in fiat("who", top, "--from", str(cut)).stderr
    done = fiat("show", top, "--from", str(cut), "--incomplete")
    assert (done.returncode, "the snapshot is cut short" in done.stdout) == (0, True)
    for packed in (gzip.compress(data), _zstandard(data)):
        for end in (3, len(packed) // 2, len(packed) - 3):
            cut.write_bytes(packed[:end])
            with pytest.raises(SnapshotError):
                reader.read(str(cut))


def _all_below(top: str) -> list[str]:
    return [top, *(f"{place}/{name}" for place, folders, files in os.walk(top) for name in (*folders, *files))]


def _zstandard(data: bytes) -> bytes:
    import zstandard

    return zstandard.ZstdCompressor(write_checksum=True).compress(data)


@pytest.mark.slow
def test_any_value_anywhere_is_read_or_refused(small: tuple[str, Path], tmp_path: Path) -> None:
    """Each value of each line once something else: no other error, and what is read can be asked."""
    top, whole = small
    texts = whole.read_text().splitlines(keepends=True)
    lines = [json.loads(line) for line in texts]
    others: tuple[object, ...] = (
        None,
        -1,
        1 << 70,
        "",
        "\x1b[2J",
        "../x",
        [],
        [1],
        {},
        True,
        0.5,
        {"from": 1, "plus": [1]},
    )
    refused = read = 0
    changed = tmp_path / "changed.jsonl"
    for number, line in enumerate(lines):
        for place in places(line):
            for other in others:
                damaged = json.dumps(put(line, place, other)) + "\n"
                changed.unlink(missing_ok=True)  # ext4 flushes what is written in place of something
                changed.write_text("".join([*texts[:number], damaged, *texts[number + 1 :]]))
                try:
                    host = reader.read(str(changed))
                except SnapshotError:
                    refused += 1
                    continue
                read += 1
                for path in (top, f"{top}/c/link"):
                    route = walk(host, path)
                    if route.end is not None:
                        Answer(host, route, ALL)
                        list(rows_of(host, path, across=True)) if route.end.posture.directory else None
    report("damaged snapshots", refused=refused, read=read)
    assert refused > 1000
    assert read > 100


# --- files -------------------------------------------------------------------------------


def test_a_snapshot_replaces_a_file_and_nothing_else(small: tuple[str, Path], tmp_path: Path) -> None:
    """Whole and for its owner alone; never through a link, nor in place of what is no file."""
    top, _ = small
    (tmp_path / "precious").write_text("precious")
    (tmp_path / "link").symlink_to("precious")
    (tmp_path / "folder").mkdir()
    os.mkfifo(tmp_path / "pipe")
    for name, says in (("link", "a symlink"), ("folder", "--add"), ("pipe", "no regular file"), ("no/such", "No such")):
        done = fiat("save", top, "-o", str(tmp_path / name))
        assert done.returncode in (2, 3), done
        assert says in done.stderr
    assert (tmp_path / "precious").read_text() == "precious"
    target = tmp_path / "good.jsonl.gz"
    target.write_text("old")
    os.chmod(target, 0o666)
    assert fiat("save", top, "-o", str(target)).returncode == 0
    assert os.stat(target).st_mode & 0o777 == 0o600
    assert fiat("show", top, "--from", str(target)).returncode == 0
    printed = fiat("save", top, "-o", "-")
    assert json.loads(printed.stdout.splitlines()[-1]) == {"end": len(printed.stdout.splitlines()) - 1}
    done = fiat("save", top, "-o", "-", "--json")
    assert (done.returncode, done.stdout, "does not go with --output -" in done.stderr) == (2, "", True)
    assert sorted(os.listdir(tmp_path)) == ["folder", "good.jsonl.gz", "link", "pipe", "precious"]


@pytest.mark.root
def test_a_full_disk_and_a_kill_leave_what_was_there(tmp_path: Path) -> None:
    """The snapshot before stays; nothing half written lies about."""
    for number in range(3000):
        make(str(tmp_path / f"{number:05}-{os.urandom(20).hex()}"))
    with fresh("tmpfs", "size=160k") as top:
        target = f"{top}/saved.jsonl"
        Path(target).write_text("before")
        done = fiat("save", str(tmp_path), "-o", target)
        assert done.returncode == 3
        assert "No space left" in done.stderr
        assert Path(target).read_text() == "before"
        assert os.listdir(top) == ["saved.jsonl"]
    target = str(tmp_path / "saved.jsonl.zst")
    command = [sys.executable, "-m", "fiat", "save", str(tmp_path), "-o", target, "--quiet"]
    begun = time.monotonic()
    subprocess.run(command, check=True)
    whole_run = time.monotonic() - begun
    Path(target).write_text("before")
    ended = set()
    for part in range(4, 14):
        with subprocess.Popen(command) as running:
            try:
                running.wait(whole_run * part / 12)
            except subprocess.TimeoutExpired:
                running.send_signal(signal.SIGKILL)
        ended.add(running.returncode)
        whole = Path(target).read_bytes()
        assert whole == b"before" or reader.read(target)
        assert not [name for name in os.listdir(tmp_path) if name.endswith(".part")]
    assert -signal.SIGKILL in ended


def test_a_folder_keeps_the_last_ones(small: tuple[str, Path], tmp_path: Path) -> None:
    """Several in one second, and two at once, are all kept under names of their own; then the oldest go."""
    top, _ = small
    folder = str(tmp_path / "saved")
    words = [sys.executable, "-m", "fiat", "save", top, "--add", folder]
    running = [subprocess.Popen(words, stdout=subprocess.DEVNULL) for _ in range(4)]
    assert [one.wait() for one in running] == [0] * 4
    (Path(folder) / "notes.txt").write_text("mine")
    assert len(os.listdir(folder)) == 5
    told = machine("save", top, "--add", folder, "--keep", "2")
    assert len(told["removed"]) == 3
    assert os.path.basename(told["file"]) in os.listdir(folder)
    assert len(os.listdir(folder)) == 3
    assert os.stat(folder).st_mode & 0o777 == 0o700


@pytest.mark.root
def test_only_older_snapshots_of_the_same_are_removed(small: tuple[str, Path], folder: str) -> None:
    """Whatever dates others bear; what is of another tree or no snapshot stays; nobody else is waited for."""
    top, _ = small
    place = Path(folder) / "saved"
    words = ("save", top, "--add", str(place))
    first = machine(*words)["file"]
    later = place / "2999-01-01T000000Z.jsonl.zst"
    os.rename(first, later)
    strange = [place / f"2001-01-0{day}T000000Z.jsonl" for day in (1, 2, 3)]
    strange[0].write_text("no snapshot at all")
    assert fiat("save", folder, "-o", str(strange[1])).returncode == 0
    os.mkfifo(strange[2])
    older = machine(*words)["file"]
    os.chmod(place, 0o755)  # others may open it, and lock what they open
    held: list[int] = []

    def lock() -> None:
        held.append(os.open(place, os.O_RDONLY))
        fcntl.flock(held[0], fcntl.LOCK_EX)

    with stranger_holds(lock):
        told = machine(*words, "--keep", "2")
    assert told["removed"] == [os.path.basename(older)]
    assert told["ahead"] == [later.name]
    left = {*os.listdir(place)}
    assert left == {later.name, os.path.basename(told["file"]), *(one.name for one in strange)}
    assert "a clock ran ahead" in fiat(*words).stdout
    change_flags(str(later), IMMUTABLE)
    done = fiat(*words, "--keep", "1")
    change_flags(str(later), 0)
    assert (done.returncode, "this one was saved" in done.stderr, "Saved to" in done.stdout) == (3, True, True)


@pytest.fixture
def shared(tmp_path: Path) -> tuple[Path, Path]:
    """A folder, and another one with two links to it: by ``ours`` and by ``theirs``."""
    mine, shared = tmp_path / "mine", tmp_path / "shared"
    mine.mkdir()
    shared.mkdir()
    for name, owner in (("theirs", STRANGER), ("ours", 0)):
        os.symlink(mine, shared / name)
        os.lchown(shared / name, owner, owner)
    return mine, shared


@pytest.mark.root
def test_a_folder_of_others_is_not_saved_into(small: tuple[str, Path], shared: tuple[Path, Path]) -> None:
    """Nothing is saved, and nothing removed, where a link in a sticky directory leads, or where others can write."""
    mine, folder = shared
    os.chmod(folder, 0o1777)
    for place in (folder / "theirs", folder / "new", folder):
        done = fiat("save", small[0], "--add", str(place), "--keep", "1")
        assert (done.returncode, "is not used" in done.stderr) == (4, True), done
    assert os.listdir(mine) == []


@pytest.mark.root
def test_nothing_is_written_by_way_of_somebody_elses_link(small: tuple[str, Path], shared: tuple[Path, Path]) -> None:
    """Whatever the settings of the machine are about such links."""
    (top, _), (mine, folder) = small, shared
    (mine / "file").write_text("before")
    for words in (("save", top, "-o"), ("audit", top, "--write-known")):
        for name in ("file", "new"):
            done = fiat(*words, str(folder / "theirs" / name))
            assert (done.returncode, "belongs to another user" in done.stderr) == (4, True), done
    assert os.listdir(mine) == ["file"]
    assert (mine / "file").read_text() == "before"
    assert fiat("save", top, "-o", str(folder / "ours" / "file")).returncode == 0
    assert fiat("audit", top, "--write-known", str(folder / "ours" / "known")).returncode in (0, 1)
    assert sorted(os.listdir(mine)) == ["file", "known"]


@pytest.mark.root
def test_what_a_killed_save_left_is_removed_by_the_next(small: tuple[str, Path], tmp_path: Path) -> None:
    """But nothing that another user has there, or that is being written."""
    top, _ = small
    names = [f".snapshot.{letter * 12}.part" for letter in "abc"]
    for name in names:
        make(str(tmp_path / name), 0o600)
    os.chown(tmp_path / names[1], STRANGER, STRANGER)
    with open(tmp_path / names[2]) as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        assert fiat("save", top, "-o", str(tmp_path / "saved.jsonl")).returncode == 0
        assert sorted(os.listdir(tmp_path)) == sorted([*names[1:], "saved.jsonl"])


@pytest.mark.root
def test_what_could_not_be_read_is_not_known_and_that_is_said(tmp_path: Path) -> None:
    """Saved by somebody who may not look everywhere: the same answers, the same gaps, and nothing more by root."""
    with fresh("here") as top:
        os.mkdir(f"{top}/shut", 0o700)
        make(f"{top}/shut/inside", 0o644)
        make(f"{top}/mine", 0o600)
        os.chmod(top, 0o777)
        held = f"{top}/held.jsonl"
        nobody = unlisted_user(65534)
        status, _, said = fiat_as(nobody, "save", top, "-o", held)
        assert (status, said.count("\n")) == (3, 1)
        os.chmod(held, 0o644)
        live = fiat_as(nobody, "who", f"{top}/shut", "--below", "--json")
        again = fiat_as(nobody, "who", f"{top}/shut", "--below", "--json", "--from", held)
        assert live == again
        for words in (("who", f"{top}/shut/inside"), ("why", "root", "read", f"{top}/shut/inside")):
            done = fiat(*words, "--from", held)
            assert done.returncode == 3
            assert "the snapshot holds nothing of" in done.stderr
        told = machine("compare", held, "live", status=3)
        assert {one["path"] for one in told["results"]} == {held}, "what is in there is not new: it was not known"


@pytest.mark.root
def test_several_trees_mounts_in_them_and_names_that_hold_anything(tmp_path: Path) -> None:
    """A tree in another, a mount saved as a tree of its own, a link as the path, names that are no text."""
    with fresh("tmpfs") as top, fresh("here") as other:
        for name in ("one/deep", "two"):
            os.makedirs(f"{top}/{name}")
        names = ["plain", "new\nline", "\x1b[31mred", "byte\udcff", "ünï", "-o", " "]
        for name in names:
            make(f"{top}/one/deep/{name}", 0o644)
        bind(other, f"{top}/two")
        try:
            make(f"{other}/inside", 0o600)
            os.symlink(f"{top}/one", f"{top}/way")
            held = tmp_path / "all.jsonl"
            words = ("save", f"{top}/way", f"{top}/one/deep", top, f"{top}/two", "-o", str(held))
            told = machine(*words)
            assert [one["path"] for one in told["results"]] == [top, f"{top}/two"]
            host = reader.read(str(held))
            for path in (f"{top}/way/deep", f"{top}/two/inside", *(f"{top}/one/deep/{name}" for name in names)):
                assert walk(host, path).end is not None, path
            assert walk(host, f"{top}/one/nothing").errno == errno.ENOENT
            assert walk(host, "/etc/passwd").errno == errno.ENODATA
            live, now = (list(rows_of(one, top, across=True)) for one in (LiveHost(), host))
            assert now == live
            assert fiat("compare", str(held), "live").returncode == 0
            os.chmod(f"{top}/one/deep/{names[1]}", 0o600)
            assert "\\n" in fiat("compare", str(held), "live", top).stdout
        finally:
            unmount(f"{top}/two")


S = "/srv/skerry"

COMMANDS = f"""
    show {S}/gauge/raw {S}/series/reduced-2026.csv /mnt/vault/replay
    show {S}/gauge --inside
    show / --below --across-mounts
    who {S}/charts/draft {S}/observatory/2026/november/barometer.csv --because
    who / --below --across-mounts --json
    who {S}/observatory --if-member surveyor:watch
    who {S}/new --can create
    why surveyor read {S}/gauge/raw/0412.csv
    why keeper write /mnt/vault/1998.tar
    why anyone-else read {S}/nothing
    set {S} --below --group survey --file-mode g=r,o= --dir-mode 2750 --preview --json
    set {S}/dropbox --arrange drop-box:steward --preview
    let auditor read {S}/observatory/2026/november/barometer.csv
    bar surveyor read {S}/charts --below
    foresee {S}/charts/draft --by apprentice
    why surveyor run reduce --folders {S}/tools
    compare skerry HELD
    restore HELD --preview
"""


def test_every_command_says_the_same_of_the_sample_host_when_it_was_saved(tmp_path: Path) -> None:
    """A host written by hand, line by line, and the same in columns."""
    held = str(tmp_path / "skerry.jsonl.zst")
    assert fiat("save", "/", "--across-mounts", "--from", "skerry", "-o", held).returncode == 0
    for line in COMMANDS.strip().splitlines():
        words = [held if word == "HELD" else word for word in line.split()]
        if words[0] == "compare":
            assert fiat(*words).returncode == 0
            continue
        one, other = (fiat(*words, "--from", host) for host in ("skerry", held))
        said = other.stdout.replace(held, "skerry"), other.stderr.replace(held, "skerry"), other.returncode
        assert said == (one.stdout.replace(held, "skerry"), one.stderr.replace(held, "skerry"), one.returncode), line
