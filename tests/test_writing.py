"""Nothing is lost: objects and processes that fail on the way, pairs of Fiats, and output that nobody can read."""

import errno
import json
import os
import random
import re
import resource
import signal
import subprocess
import time
from collections import Counter

import pytest

from fiat import open_host
from fiat.cli.main import main
from fiat.core.change import rewriting
from fiat.core.change.history import ObjectFate, RunState
from fiat.core.change.making import make_plan
from fiat.core.change.steps import Steps
from fiat.core.model.host import Node
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Identity, Kind, Posture, Status
from fiat.core.model.wish import Wish
from fiat.core.words.entries import parse_list
from fiat.engine import changing
from fiat.host.history.sqlite import SqliteHistory
from fiat.host.image.host import ImageHost
from fiat.host.live.node import LiveNode
from support.files import State as FileState
from support.files import in_child, list_of, make, mode_of, states
from support.filesystems import fresh
from support.program import PROGRAM, fiat
from support.surveys import target
from support.times import SEED, TIMES, report

ACCEPT = [
    word
    for guard in ("from-root", "clears-special", "privilege", "lockout", "everyone-writes", "unmasks", "system-path")
    for word in ("--accept", guard)
]
CHANGE = [
    "--below",
    "--owner",
    "7101",
    "--group",
    "7201",
    "--mode",
    "u=rwX,g=rX,o=",
    "--entry",
    "user:7105:rX",
    *ACCEPT,
]


def a_flat_tree(top: str, folders: int, files: int) -> dict[str, FileState]:
    make(top, 0o755, directory=True)
    for folder in range(folders):
        make(f"{top}/d{folder}", 0o755, directory=True)
        for file in range(files):
            make(f"{top}/d{folder}/f{file}", 0o644)
    return states(top)


@pytest.fixture
def several(monkeypatch: pytest.MonkeyPatch) -> None:
    """By all processors, which is for larger trees otherwise."""
    monkeypatch.setattr(changing, "_ALONE", 100)
    monkeypatch.setattr(changing, "_PIECE", 40)


# --- what fails on the way ---------------------------------------------------------------


@pytest.mark.root
def test_files_that_vanish_and_come_while_a_tree_is_changed(folder: str) -> None:
    """The tree is large enough for several processes: what one of them meets is told by this one."""
    failed = Counter[str]()
    for seed in range(SEED, SEED + 3 * TIMES):
        top, place = f"{folder}/t{seed}", f"{folder}/h{seed}"
        before = a_flat_tree(top, 12, 380)
        attacker = in_child(lambda: vanish_for_ever(top, seed))  # noqa: B023
        try:
            done = fiat("set", top, *CHANGE, "--history", place)
        finally:
            os.kill(attacker, signal.SIGKILL)
            os.waitpid(attacker, 0)
        assert done.returncode in (0, 3)
        failed.update(re.findall(r"(?<=: )[A-Z][^;\n]*", done.stderr))
        assert (done.returncode == 3) == bool(done.stderr)
        undone = fiat("undo", "--accept", "privilege", "--history", place)
        now = states(top)
        assert all(now[path] == before[path] or f"'{path}'" in undone.stderr for path in now if path in before)
    assert failed.total() > 0
    report("vanishing files", **{"trees": 3 * TIMES, "objects that failed": failed.total()})


def vanish_for_ever(top: str, seed: int) -> None:
    dice = random.Random(seed)
    while True:
        path = f"{top}/d{dice.randrange(12)}/f{dice.randrange(380)}"
        if os.path.exists(path):
            os.unlink(path)
        else:
            os.rename(make(f"{top}-made", 0o644), path)


@pytest.mark.reader("python")
@pytest.mark.root
@pytest.mark.usefixtures("several")
@pytest.mark.parametrize("half", [False, True])
@pytest.mark.parametrize("command", ["set", "undo"])
def test_a_process_that_is_killed_ends_the_run_with_an_account(
    folder: str, command: str, half: bool, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    top, place = f"{folder}/tree", f"{folder}/history"
    before = a_flat_tree(top, 3, 200)
    if command == "undo":
        assert main(["set", top, *CHANGE, "--history", place]) == 0
    whole = rewriting.take

    def take(node: Node, steps: Steps) -> None:
        if node.path.endswith("/f77"):
            if half:
                node.change_owner(steps.uid, steps.gid)
            os.kill(os.getpid(), signal.SIGKILL)
        whole(node, steps)

    with monkeypatch.context() as patch:
        patch.setattr(rewriting, "take", take)
        words = ["set", top, *CHANGE] if command == "set" else ["undo", "--accept", "privilege"]
        capsys.readouterr()
        assert main([*words, "--history", place]) == 3
    out, err = capsys.readouterr()
    assert "a process that did a part of the work was killed by signal 9" in err
    assert ("a part is changed" in err) == half
    run = SqliteHistory(place).runs()[0]
    assert (run.state, run.ended is not None) == (RunState.PARTIAL, True)
    entries = SqliteHistory(place).entries(run.number)
    now = states(top)
    for entry in entries:
        as_before = now[entry.path] == before[entry.path]
        done = entry.fate in (ObjectFate.PLANNED, ObjectFate.CHANGED)
        assert done == (as_before if command == "undo" else not as_before) or entry.fate is ObjectFate.ASTRAY, entry
    assert run.changed == sum(one.fate in (ObjectFate.PLANNED, ObjectFate.CHANGED) for one in entries)
    assert sum(one.fate is ObjectFate.ASTRAY for one in entries) in ((1, 2) if half else (0,))  # one for each process
    assert f"fiat undo {run.number} --history {place}" in out
    while states(top) != before:  # of an undo, what is left of the run it was to undo
        assert main(["undo", "--accept", "privilege", "--history", place]) == 0


@pytest.mark.root
def test_what_a_refused_step_leaves_half_done_is_put_back(folder: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """A list that does not fit, after the owner has been changed: by the kernel, on a file system of small blocks."""
    with fresh("ext4") as top:
        path = make(f"{top}/file", 0o640)
        os.setxattr(path, "user.filler", bytes(700))
        before = states(top)
        entries = [word for uid in range(8000, 8060) for word in ("--entry", f"user:{uid}:r")]
        place = f"{folder}/history"
        words = ["set", path, "--owner", "7101", *entries, *ACCEPT, "--history", place]
        done = fiat(*words)
        assert (done.returncode, states(top)) == (3, before), done.stderr
        assert "No space left on device" in done.stderr
        run = SqliteHistory(place).runs()[0]
        assert [one.fate for one in SqliteHistory(place).entries(run.number)] == [ObjectFate.FAILED]

        def refuse(self: LiveNode, uid: int | None, gid: int | None) -> None:
            if uid == 0:
                raise OSError(errno.EIO, "")
            owner(self, uid, gid)

        owner = LiveNode.change_owner  # and where that cannot be put back, it is recorded as what it is
        monkeypatch.setattr(LiveNode, "change_owner", refuse)
        assert main([*words, "--format", "json"]) == 3
        monkeypatch.undo()
        history = SqliteHistory(place)
        (entry,) = history.entries(history.runs()[0].number)
        assert entry.fate is ObjectFate.ASTRAY
        assert entry.found is not None
        assert (entry.found.uid, entry.found.acl) == (7101, None)
        assert os.stat(path).st_uid == 7101
        assert main(["undo", "--accept", "privilege", "--history", place]) == 0
        assert states(top) == before


@pytest.mark.root
def test_few_open_files_and_little_memory(folder: str) -> None:
    """Everything is done, or nothing, or it is said what was and can be put back."""
    top, place = f"{folder}/t0", f"{folder}/history"
    here = make(top, 0o755, directory=True)
    for _ in range(90):
        here = make(f"{here}/d", 0o755, directory=True)
        for file in range(50):
            make(f"{here}/f{file}", 0o644)
    before = states(top)
    limits = [("NOFILE", count) for count in (8, 16, 24, 64)]
    limits += [("AS", size * 1_000_000) for size in range(60, 200, 10 if TIMES == 1 else 2)] + [("NPROC", 1)]
    ends = Counter[int]()
    for name, limit in limits:
        done = limited({name: limit}, "set", top, *CHANGE, "--history", place)
        changed = sum(now != before[path] for path, now in states(top).items())
        ends[done.returncode] += 1
        assert "Traceback" not in done.stderr, (name, limit, done.stderr[:2000])
        if name == "NOFILE" and limit == 64:
            assert done.returncode == 0
        if done.returncode == 0:
            assert changed == len(before)
        else:
            assert changed < len(before)
            assert done.stderr
        if changed:
            assert fiat("undo", "--accept", "privilege", "--history", place).returncode == 0
        assert states(top) == before, (name, limit)
    assert ends[0] > 3
    assert ends[3] > 3


def limited(limits: dict[str, int], *words: str) -> subprocess.CompletedProcess[str]:
    def set_limits() -> None:
        for name, limit in limits.items():
            resource.setrlimit(getattr(resource, f"RLIMIT_{name}"), (limit, limit))

    return subprocess.run([*PROGRAM, *words], capture_output=True, text=True, preexec_fn=set_limits, timeout=120)


# --- pairs of Fiats ----------------------------------------------------------------------


@pytest.mark.root
@pytest.mark.parametrize("histories", ["one", "two"])
def test_after_both_of_a_pair_are_undone_each_object_is_original_or_named(folder: str, histories: str) -> None:
    counts = Counter[str]()
    top = f"{folder}/t"
    before = a_flat_tree(top, 12, 350)
    pairs = 0
    while pairs < 4 * TIMES or (histories == "one" and not counts["waited"]):
        assert pairs < 40 * TIMES, "they hardly ever met"
        seed = SEED + pairs
        pairs += 1
        dice = random.Random(seed)
        places = [f"{folder}/h{seed}", f"{folder}/h{seed}{'' if histories == 'one' else 'b'}"]
        begun = []
        for place in places:
            words = [*PROGRAM, "set", *a_change(top, dice), "--history", place]
            begun.append(subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True))
            time.sleep(dice.random() * 0.3)
        runs = []
        for process, place in zip(begun, places, strict=True):
            out, err = process.communicate()
            assert process.returncode in (0, 3), err
            assert "Traceback" not in err
            counts["waited"] += "waiting for run" in err
            counts["met"] += "meanwhile" in err or "otherwise" in err
            found = re.search(r"Run (\d+) in the history", out)
            runs += [(place, found[1])] if found else []
        if histories == "one":
            assert not counts["met"]
            runs.sort(key=lambda run: -int(run[1]))
        else:
            dice.shuffle(runs)
        named: set[str] = set()
        for place, number in runs:  # on the terminal many that fail alike are one line
            told = fiat("undo", number, "--accept", "privilege", "--history", place, "--json").stdout
            named |= {problem["path"] for problem in json.loads(told)["problems"]}
        now = states(top)
        other = [path for path in before if now[path] != before[path]]
        assert [path for path in other if path not in named] == [], seed
        counts["named"] += len(other)
        if other:
            subprocess.run(["rm", "-r", top], check=True)
            before = a_flat_tree(top, 12, 350)
    report(f"pairs with {histories}", pairs=pairs, waited=counts["waited"], met=counts["met"], named=counts["named"])


def a_change(top: str, dice: random.Random) -> list[str]:
    words = [dice.choice([top, top, f"{top}/d3"]), "--below", *ACCEPT]
    words += ["--mode", dice.choice(["u=rwX,g=rX,o=", "go=", "a+rX", "u=rwX,go=rX,g+s"])]
    for option, values in (
        ("--owner", ("7101", "7102")),
        ("--group", ("7201", "7202")),
        ("--entry", ("user:7105:rX", "user:7106:rX")),
    ):
        if dice.random() < 0.7:
            words += [option, dice.choice(values)]
    return words


@pytest.mark.reader("python")
@pytest.mark.root
def test_what_another_writes_between_the_look_and_the_change_is_recorded_and_no_undo_touches_it(
    folder: str, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    path, place = make(f"{folder}/file", 0o640), f"{folder}/history"
    whole = rewriting.take

    def take(node: Node, steps: Steps) -> None:
        whole(node, steps)
        os.chmod(path, 0o604)

    with monkeypatch.context() as patch:
        patch.setattr(rewriting, "take", take)
        assert main(["set", path, "--mode", "600", "--history", place]) == 3
    assert "found otherwise afterwards" in capsys.readouterr().err
    (entry,) = SqliteHistory(place).entries(1)
    assert entry.found is not None
    assert (entry.fate, entry.found.mode) == (ObjectFate.ASTRAY, 0o604)
    shown = fiat("history", "1", "--history", place).stdout
    assert "Found otherwise than planned" in shown
    assert "0604" in shown
    undone = fiat("undo", "1", "--history", place)
    assert (undone.returncode, mode_of(path)) == (3, 0o604)
    assert "someone else changed it while the run did" in undone.stderr
    assert "0640" in undone.stderr


def test_what_was_read_while_another_changed_it_is_no_reason_to_refuse_the_rest() -> None:
    """A list and a mode that contradict each other: the one was read before the other's change, the other after it."""
    sample = open_host("skerry")
    objects = {path: sample.root().look()._replace(path=path) for path in ("/", "/torn")}
    seen = Posture(Kind.FILE, 0o640, 7102, 7202, parse_list("u::rw,u:7105:r,g::r,m::rwx,o::-", int, int))
    objects["/torn"] = objects["/torn"]._replace(posture=seen, status=Status(Identity("here", 2)))
    host = ImageHost("torn", objects.values(), sample.accounts, sample.settings)
    made = make_plan(host, [target(host, "/torn", with_tree=False)], Wish(parse_change("600"), uid=7101))
    assert [guard.code for guard in made.guards] == []


@pytest.mark.reader("python")
@pytest.mark.root
def test_a_run_waits_for_another_on_the_same_objects_and_no_stranger_can_stop_it(
    folder: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = a_flat_tree(f"{folder}/t", 2, 3)
    place = f"{folder}/history"
    whole = rewriting.take

    def take(node: Node, steps: Steps) -> None:
        while not os.path.exists(f"{folder}/go on"):
            time.sleep(0.01)
        whole(node, steps)

    with monkeypatch.context() as patch:
        patch.setattr(rewriting, "take", take)
        holder = in_child(lambda: main(["set", f"{folder}/t/d0", "--below", "--mode", "go=", "--history", place]))
    while not (os.path.exists(place) and [run.state for run in SqliteHistory(place).runs()] == [RunState.RUNNING]):
        time.sleep(0.01)
    beside = fiat("set", f"{folder}/t/d1", "--mode", "go=x", "--history", place)
    assert (beside.returncode, beside.stderr) == (0, "")
    over = [*PROGRAM, "set", f"{folder}/t", "--below", "--mode", "o=r", *ACCEPT, "--history", place]
    with subprocess.Popen(over, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as waiting:
        assert waiting.stderr is not None
        assert "waiting for run 1 (fiat" in waiting.stderr.readline()
        make(f"{folder}/go on")
        assert waiting.wait() == 0
    os.waitpid(holder, 0)
    assert mode_of(f"{folder}/t/d0/f0") == 0o604
    for _ in range(3):
        assert fiat("undo", "--accept", "privilege", "--history", place).returncode == 0
    assert states(f"{folder}/t") == before
    assert mode_of(f"{place}.locks") == 0o600


# --- the exit status speaks of the paths ---------------------------------------------------


@pytest.mark.root
def test_what_is_done_is_done_whoever_reads_the_output(folder: str) -> None:
    path, place = make(f"{folder}/file", 0o640), f"{folder}/history"
    for words, mode in ((("set", path, "--mode", "600"), 0o600), (("undo",), 0o640)):
        line = [*PROGRAM, *words, "--history", place]
        with open("/dev/full", "w") as full:
            done = subprocess.run(line, stdout=full, stderr=subprocess.PIPE, text=True)
        assert (done.returncode, mode_of(path)) == (0, mode)
        assert done.stderr == f"fiat {words[0]}: the output was cut short: No space left on device\n"
    for redirected in ("2>/dev/full", ">/dev/full 2>/dev/full", ">&- 2>&-"):
        line = [*PROGRAM, "set", path, f"{folder}/missing", "--mode", "600", "--history", place]
        done = subprocess.run(["/bin/sh", "-c", f'"$@" {redirected}', "sh", *line], capture_output=True, text=True)
        assert (done.returncode, mode_of(path), "Traceback" in done.stderr) == (3, 0o600, False)
        assert SqliteHistory(place).runs()[0].state is RunState.DONE
        assert fiat("undo", "--accept", "privilege", "--history", place).returncode == 0
    read, write = os.pipe()
    os.close(read)
    done = subprocess.run(
        [*PROGRAM, "set", path, "--mode", "600", "--history", place], stdout=write, stderr=subprocess.PIPE, text=True
    )
    os.close(write)
    assert (done.returncode, mode_of(path)) == (0, 0o600)
    assert done.stderr == "fiat set: the output was cut short: its reader has gone\n"


def test_a_current_directory_that_is_gone_is_a_wrong_path(folder: str) -> None:
    gone = make(f"{folder}/gone", 0o755, directory=True)
    for words in ("show x", "who x", "who x --below", "why self read x", "set x --mode 600 --no-history"):
        line = f'cd {gone} && rmdir {gone} && "$@"; status=$?; mkdir {gone}; exit $status'
        done = subprocess.run(["/bin/sh", "-c", line, "sh", *PROGRAM, *words.split()], capture_output=True, text=True)
        assert (done.returncode, "the current directory has been removed" in done.stderr) == (2, True), done.stderr
        assert done.stderr.count("\n") == 1


def test_what_cannot_be_kept_still_prints_its_json(folder: str) -> None:
    path, bad = make(f"{folder}/file", 0o640), make(f"{folder}/bad", 0o644)
    for words, status in ((("set", path, "--mode", "600"), 4), (("undo",), 4), (("history",), 3)):
        done = fiat(*words, "--history", bad, "--format", "json")
        assert (done.returncode, mode_of(path)) == (status, 0o640)
        value = json.loads(done.stdout)
        assert [problem["path"] for problem in value["problems"]] == [bad]
        assert "is open to others" in value["problems"][0]["message"]
        assert value.get("applied", False) is False


def test_a_list_of_many_is_read_back(folder: str) -> None:
    path = make(f"{folder}/file", 0o640)
    entries = [word for uid in range(8000, 8100) for word in ("--entry", f"user:{uid}:r")]
    done = fiat("set", path, *entries, "--history", f"{folder}/history")
    assert done.returncode == 0, done.stderr
    assert len(list_of(path)) == 105 - 1


@pytest.mark.reader("python")
def test_a_run_that_changed_nothing_is_nothing_to_undo(folder: str, monkeypatch: pytest.MonkeyPatch) -> None:
    path, place = make(f"{folder}/file", 0o640), f"{folder}/history"

    def refuse(node: Node, steps: Steps) -> None:
        raise OSError(errno.EPERM, "")

    with monkeypatch.context() as patch:
        patch.setattr(rewriting, "take", refuse)
        assert main(["set", path, "--mode", "600", "--history", place]) == 3
    os.chmod(path, 0o600)  # by somebody else, and to the same
    for words in (("undo",), ("undo", "1")):
        done = fiat(*words, "--history", place)
        assert (done.returncode, mode_of(path)) == (2 if len(words) == 1 else 0, 0o600), done
    assert len(SqliteHistory(place).runs()) == 1
