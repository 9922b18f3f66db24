"""The compiled reader and changer: where a call fails or the process is killed in it, hostile trees under sanitizers,
what it leaves behind. That it answers as Python does is what the tests of trees say, which run with both."""

import errno
import gc
import os
import resource
import signal
import subprocess
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from fiat.core.change import together
from fiat.core.text import natural_order
from fiat.core.tree.reading import survey_of
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent, open_end
from fiat.engine import laying
from fiat.engine.compiled import compiled
from fiat.host.live import compiledreader
from fiat.host.live.attributes import NAMES
from fiat.host.live.host import LiveHost
from fiat.host.live.node import LiveNode
from support import native
from support.files import give_list, make, states
from support.places import trusted_folder
from support.program import PROGRAM
from support.times import TIMES

pytestmark = pytest.mark.skipif(compiled() is None, reason="Fiat was installed without its compiled part")


@pytest.fixture(scope="module")
def faults() -> Iterator[str]:
    """The library that lets calls fail."""
    with trusted_folder() as folder:
        yield native.faults(folder)


def test_both_speak_of_the_same() -> None:
    module = compiled()
    assert module is not None
    assert module.ATTRIBUTES == NAMES
    assert sorted(together.Came) == [-1, 1, 2, 3, 4]  # as changing.c has them


@given(st.lists(st.text(" aAbZ0019.", min_size=1, max_size=7), min_size=2, max_size=30, unique=True))
def test_ascii_names_are_sorted_by_the_compiled_part_alone(names: list[str]) -> None:
    module = compiled()
    assert module is not None
    data = "".join(names).encode()
    lengths = np.array([len(name) for name in names], np.uint16)
    starts = (np.cumsum(lengths, dtype=np.uint64) - lengths).astype(np.uint64)
    paths = module.Paths(data, starts, lengths, np.zeros(len(names), np.int32), laying.VISIBLE, str)
    entries = np.arange(len(names))
    changed, left = paths.sort(entries, np.array([0, len(names)]))
    assert not left
    assert [names[one] for one in entries] == sorted(names, key=natural_order)
    assert changed == (entries.tolist() != sorted(entries.tolist()))


def test_columns_that_do_not_go_together_are_refused() -> None:
    module = compiled()
    assert module is not None
    names, starts, lengths = b"topab", np.array([0, 3, 4], np.uint64), np.array([3, 1, 1], np.uint16)

    def paths(parent: Sequence[int], ends: NDArray[np.uint16] = lengths) -> Any:
        return module.Paths(names, starts, ends, np.array(parent, np.int32), laying.VISIBLE, str)

    def rows(of: Any, place: int, *columns: Any) -> str:
        said: str = of.rows(np.array([place]), columns, b"/t/", b"/t", False)
        return said

    good = paths([-1, 0, 1])
    assert rows(good, 2, None, "!", np.array([7]), (["x"], np.array([0]))) == "/t/a/b!7x\n"
    ring = paths([-1, 2, 1])
    for wrong in (
        lambda: rows(good, 3, None),
        lambda: rows(good, -1, None),
        lambda: rows(good, 2, (["x"], np.array([1]))),
        lambda: rows(good, 2, (["x"], np.array([-1]))),
        lambda: rows(paths([-1, 0, 0], np.array([3, 1, 9], np.uint16)), 2, None),
        lambda: rows(ring, 2, None),
        lambda: rows(paths([-1, 0, 77]), 2, None),
        lambda: good.sort(np.arange(3), np.array([0, 4])),
        lambda: good.sort(np.arange(3), np.array([2, 1])),
        lambda: good.lists(np.array([0]), np.arange(3), np.array([0, 4]), [()], b"", b""),
    ):
        with pytest.raises(IndexError):
            wrong()
    for wrong in (
        lambda: rows(good, 2, np.arange(2)),
        lambda: rows(good, 2, (["x"], np.arange(2))),
        lambda: paths([-1]),
    ):
        with pytest.raises(ValueError, match="each"):
            wrong()


def tree(folder: str) -> str:
    """A tree in which every call is made, of some twenty objects."""
    top = make(f"{folder}/t", 0o755, directory=True)
    for one in ("a", "b"):
        inside = make(f"{top}/{one}", 0o750, directory=True)
        for number in range(4):
            make(f"{inside}/f{number}", 0o640)
        give_list(f"{inside}/f1", "u::rw-,u:7105:r--,g::r--,m::r--,o::---")
        make(f"{inside}/run", 0o755, text=b"#!/bin/sh\n")
        os.symlink("f0", f"{inside}/link")
        os.chown(f"{inside}/f2", 7101, 7201)
    return top


def run(faults: str, call: str, nth: int, number: int, *words: str) -> subprocess.CompletedProcess[str]:
    """A command line of which one call of the compiled part fails with an errno, or for 0 is the last."""
    given = {"LD_PRELOAD": faults, "FAULT_CALL": call, "FAULT_NTH": str(nth), "FAULT_ERRNO": str(number)}
    return subprocess.run([*PROGRAM, *words], env={**os.environ, **given}, capture_output=True, text=True, timeout=120)


READS = (
    "openat",
    "getdents64",
    "statx",
    "llistxattr",
    "lgetxattr",
    "open",
    "read",
    "fchdir",
    "unshare",
    "pthread_create",
)


@pytest.mark.root
@pytest.mark.parametrize("call", READS)
def test_a_call_that_fails_while_a_tree_is_read_is_told(call: str, folder: str, faults: str) -> None:
    """All the same is said of everything else."""
    top = tree(folder)
    words = ("show", top, "--below", "--format", "csv")
    whole = {*subprocess.run([*PROGRAM, *words], stdout=-1, text=True, check=True).stdout.splitlines()}
    ends = Counter[int]()
    for nth in range(1, 26, 1 if TIMES > 1 else 6):
        done = run(faults, call, nth, errno.EIO, *words)
        ends[done.returncode] += 1
        assert done.returncode in (0, 3), (nth, done.stderr)
        assert "Traceback" not in done.stderr
        said = {*done.stdout.splitlines()}
        if done.returncode == 3:
            assert "Input/output error" in done.stderr
            assert said < whole
        elif call in ("openat", "getdents64", "statx"):
            assert said == whole
    assert ends[3] or call not in ("openat", "getdents64", "statx")


CHANGES = ("openat", "statx", "listxattr", "getxattr", "chown", "setxattr", "chmod")


@pytest.mark.root
@pytest.mark.parametrize("number", [errno.ENOSPC, 0])
@pytest.mark.parametrize("call", CHANGES)
def test_a_call_that_fails_or_ends_the_process_leaves_what_can_be_put_back(
    call: str, number: int, folder: str, faults: str
) -> None:
    top, history = tree(folder), f"{folder}/history"
    before = states(top)
    change: tuple[str, ...] = ("--below", "--mode", "u=rwX,g=,o=", "--owner", "7102")
    if call == "setxattr":
        change = (*change, "--entry", "user:7103:r--")
    accept = [word for guard in ("from-root", "lockout", "unmasks", "privilege") for word in ("--accept", guard)]
    ends = Counter[int]()
    for nth in range(1, 44, 1 if TIMES > 1 else 10):
        done = run(faults, call, nth, number, "set", top, *change, *accept, "--history", history)
        ends[done.returncode] += 1
        assert done.returncode in (0, 3, -signal.SIGKILL), (nth, done.stderr)
        changed = [path for path, now in states(top).items() if now != before[path]]
        if done.returncode == 3:
            assert "Traceback" not in done.stderr
            assert done.stderr
        if changed:
            undone = subprocess.run([*PROGRAM, "undo", "--history", history], capture_output=True, text=True)
            assert undone.returncode == 0, (nth, undone.stderr)
        assert states(top) == before, nth
    if not number:
        assert ends[-signal.SIGKILL]
    elif call in ("openat", "chown", "setxattr", "chmod"):  # what only looks is done again by Python
        assert ends[3]


@pytest.mark.root
@pytest.mark.parametrize("number", [errno.EIO, 0])
def test_putting_back_may_fail_and_be_killed_as_well(number: int, folder: str, faults: str) -> None:
    top, history = tree(folder), f"{folder}/history"
    before = states(top)
    for call in ("chmod", "statx", "listxattr"):
        for nth in (1, 9):
            words = ("--below", "--mode", "go=", "--accept", "lockout", "--history", history)
            assert subprocess.run([*PROGRAM, "set", top, *words], stdout=-1).returncode == 0
            run(faults, call, nth, number, "undo", "--history", history)
            while states(top) != before:
                done = subprocess.run([*PROGRAM, "undo", "--history", history], capture_output=True, text=True)
                assert done.returncode == 0, (call, nth, done.stderr)


# --- what it is told, and leaves ---------------------------------------------------------


def read(path: str, extent: Extent = Extent(), **progress: object) -> Survey:  # noqa: B008
    _, node = open_end(LiveHost(), path)
    assert node is not None
    try:
        return survey_of(node, extent, **progress)  # type: ignore[arg-type]
    finally:
        node.close()


def test_stopped_it_has_whole_directories(folder: str, monkeypatch: pytest.MonkeyPatch) -> None:
    top = make(f"{folder}/t", 0o755, directory=True)
    for one in range(300):
        inside = make(f"{top}/d{one}", 0o755, directory=True)
        for number in range(20):
            make(f"{inside}/f{number}", 0o644)

    def stop(entries: int, path: str) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(compiledreader, "_PATIENCE", 0.0)
    survey = read(top, progress=stop)
    assert not survey.complete
    assert len(survey) < 6301
    names = [path.removeprefix(top) for path in survey.paths()]
    counts = Counter(name.split("/")[1] for name in names if name.count("/") == 2)
    assert set(counts.values()) <= {20}
    bounded = read(top, Extent(entry_limit=400))
    assert bounded.bounded
    assert 400 <= len(bounded) < 6301


def test_what_goes_wrong_in_python_comes_out(folder: str, monkeypatch: pytest.MonkeyPatch) -> None:
    top = make(f"{folder}/t", 0o755, directory=True)
    for number in range(50):
        make(f"{top}/f{number}", 0o755, text=b"#!/bin/sh\n%d" % number)

    def fail(*_: object) -> None:
        raise ZeroDivisionError("in the middle")

    monkeypatch.setattr(compiledreader, "program_in", fail)
    with pytest.raises(ZeroDivisionError, match="in the middle"):
        read(top)


@pytest.mark.slow
def test_a_thousand_runs_leave_nothing_behind(folder: str) -> None:
    """Neither memory nor open files, of reading, of stopping in the middle, and of changing."""
    top = make(f"{folder}/t", 0o755, directory=True)
    for one in range(20):
        inside = make(f"{top}/d{one}", 0o755, directory=True)
        for number in range(20):
            make(f"{inside}/f{number}", 0o755 if number % 5 else 0o644, text=b"#!/bin/sh\n%d" % number)
        give_list(f"{inside}/f1", "u::rw-,u:7105:r--,g::r--,m::r--,o::---")
    module = compiled()
    assert module is not None
    host = LiveHost()

    def once(count: int) -> None:
        _, node = open_end(host, top)
        assert isinstance(node, LiveNode)
        if count % 3 == 2:
            reading = module.Reading(
                top=node.fd, roots=[(b"", None)], wheres=[], busy=[], program=id, threads=2, most_open=8, told_flags=0,
                entry_limit=10**9, piece=8, shared=9, descends=True, details=True, by_name=False,
            )  # fmt: skip
            reading.stop()
            reading.result()
        else:
            survey_of(node, Extent(details=count % 2 == 0))
        node.close()

    for count in range(100):
        once(count)
    gc.collect()
    before, files = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, len(os.listdir("/proc/self/fd"))
    for count in range(1000):
        once(count)
    gc.collect()
    assert len(os.listdir("/proc/self/fd")) == files
    assert (
        resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 4_000
    )  # KB: 4 bytes a run and entry would be 1,600


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.parametrize("failing", [False, True])
def test_hostile_trees_under_sanitizers(folder: str, faults: str, failing: bool) -> None:
    """The same fuzzer runs for as long as somebody wants: see its own words."""
    module, first = native.sanitized(folder), native.sanitizers()
    if failing:
        said = native.fuzz(module, 20 * TIMES, 7, folder, [*first, faults], FAULT_SEED="7", FAULT_RATE="60")
    else:
        said = native.fuzz(module, 20 * TIMES, 5, folder, first)
    assert int(said.split()[0]) > 2
