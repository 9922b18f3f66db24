"""Trees read in bulk, against the same trees read object by object."""

import errno
import json
import os
import random
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import numpy as np
import pytest

import fiat as library
from fiat.app import look
from fiat.app.hosts import arrive
from fiat.core.ask.who import universe_of
from fiat.core.errors import PathError
from fiat.core.model import capabilities, listbytes
from fiat.core.model.finding import Finding
from fiat.core.model.host import no_progress
from fiat.core.model.listbytes import ACCESS_XATTR
from fiat.core.model.principals import user
from fiat.core.model.right import ALL, READ, TRAVERSE
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.text import natural_order
from fiat.core.tree import reading
from fiat.core.tree.answers import TreeAccess
from fiat.core.tree.natural import natural_places
from fiat.core.tree.profile import profile_of
from fiat.core.tree.reading import survey_at, survey_of
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent, open_end, route_for
from fiat.core.words.entries import parse_list
from fiat.host.live import compiledreader, gathering, treereader
from fiat.host.live.host import LiveHost
from support.files import POWERS, in_child, make
from support.filesystems import KINDS, ROOT, fresh
from support.kernel import as_somebody, may
from support.program import fiat, machine
from support.worlds import World


def surveyed(path: str, *, across: bool = False) -> tuple[Route, Survey]:
    return survey_at(LiveHost(), path, Extent(across_mounts=across))


def contents(survey: Survey) -> list[tuple[object, ...]]:
    """All that a survey says, without the numbers it uses for it."""
    return [
        (path, survey.profiles[survey.profile[place]], survey.inode[place], survey.links[place], survey.birth[place])
        for place, path in enumerate(survey.paths())
    ]


@contextmanager
def many_parts(monkeypatch: pytest.MonkeyPatch, workers: int) -> Iterator[None]:
    """Cut even a small tree into many parts, for so many processes."""
    with monkeypatch.context() as patch:
        patch.setattr(gathering, "_ALONE", 1)
        patch.setattr(gathering, "_PART", 3)
        patch.setattr(treereader, "_CHUNK", 4)
        patch.setattr(treereader, "_SHARED", 5)
        patch.setattr(compiledreader, "_SHARED", 5)
        patch.setattr(compiledreader, "_PIECE", 3)
        patch.setattr(compiledreader, "_PATIENCE", 0.001)
        patch.setattr(os, "sched_getaffinity", lambda process: set(range(workers)))
        yield


def expect_the_same(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """What a tree is, read in bulk, in pieces, and object by object."""
    route, survey = surveyed(world.top)
    assert route.end is not None
    _, node = open_end(LiveHost(), world.top)
    assert node is not None
    other = reading._object_by_object(node, Extent(details=True), no_progress)
    node.close()
    assert list(other.paths()) == list(survey.paths())
    _, detailed = survey_at(LiveHost(), world.top, Extent(details=True))
    for place, path in enumerate(survey.paths()):
        assert survey.path(place) == path
        found, object_ = other.object(place), survey.object(place)
        assert profile_of(found) == survey.profiles[survey.profile[place]]
        assert found.status.identity.same_as(object_.status.identity)
        assert found.status.links == object_.status.links
        again = detailed.object(place)
        assert (found.status.size, found.target) == (again.status.size, again.target)
        assert place == 0 or found.status.changed == again.status.changed
        assert all(survey.path(inner).startswith(path) for inner in range(place, survey.end[place]))
    in_order = [survey.path(place) for place in natural_places(survey).tolist()]
    parts = [[natural_order(name) for name in path.split("/")] for path in in_order]
    assert len(parts) == len(survey) - 1
    assert parts == sorted(parts)
    if ROOT:
        assert not survey.troubles
    for workers in (1, 2, 3):
        with many_parts(monkeypatch, workers):
            assert contents(surveyed(world.top)[1]) == contents(survey)


@pytest.mark.parametrize("kind", KINDS)
def test_a_tree_read_in_bulk_is_what_its_objects_are(kind: str, monkeypatch: pytest.MonkeyPatch) -> None:
    with fresh(kind) as top:
        for seed in range(1, 9):
            with World(top, seed) as world:
                if ROOT:
                    os.setxattr(make(f"{world.top}/\udcff\n", 0o755), capabilities.CAPABILITY_XATTR, POWERS)
                mounts = Path("/proc/self/mountinfo")
                for last in (False, False, False, True):
                    before = mounts.read_text()
                    try:
                        expect_the_same(world, monkeypatch)
                        break
                    except AssertionError:  # tests beside this one mount: what was read first may know less of that
                        if last or mounts.read_text() == before:
                            raise


@pytest.mark.root
@pytest.mark.parametrize("kind", KINDS)
def test_answers_for_a_tree_are_those_for_its_paths_and_the_kernels(kind: str) -> None:
    with fresh(kind) as top:
        for seed in range(101, 107):
            with World(top, seed) as world:
                host = LiveHost(world.people)
                route, survey = surveyed(world.top)
                postures = [sort.posture for sort in survey.profiles]
                universe = universe_of(world.people, [*postures, *(found.posture for found in route.objects)])
                everyone = [user(account, world.people.gids_of(account)) for account in world.people.users]
                access = TreeAccess(host, Access(universe, host.settings), ALL)
                answers = access.answers(survey, route)
                questions = []
                for place, path in enumerate(survey.paths()):
                    posture = survey.object(place).posture
                    for right, bits in zip(ALL, answers.keys[answers.number[place]], strict=True):
                        assert (bits is None) == (not right.applies(posture.kind))
                        if bits is None:
                            continue
                        assert bits == access.access.allowed(route_for(host, path, right), right), (path, right)
                        if right is TRAVERSE or (right is READ and not posture.directory):
                            questions.append((path, 4 if right is READ else 1, bits))
                for who in random.Random(seed).sample(everyone, 3):
                    truth = as_somebody(who, lambda: [may(want, path) for path, want, _ in questions])  # noqa: B023
                    bit = 1 << universe.principals.index(who)
                    for (path, want, bits), number in zip(questions, truth, strict=True):
                        assert bool(bits & bit) == (number == 0), (who, want, path)


@pytest.mark.root
def test_other_mounts_in_the_tree(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    at = make(f"{top}/mounted", 0o755, directory=True)
    make(f"{top}/z", 0o644)
    subprocess.run(["mount", "-t", "tmpfs", "none", at], check=True)
    try:
        make(f"{at}/inside", 0o600)
        _, survey = surveyed(top)
        assert (list(survey.paths()), survey.skipped) == ([top, at, f"{top}/z"], [at])
        assert survey.object(1).mount != survey.object(2).mount
        _, survey = surveyed(top, across=True)
        assert (list(survey.paths()), survey.skipped) == ([top, at, f"{at}/inside", f"{top}/z"], [])
        os.chmod(top, 0o777)  # what is mounted in it can be taken from nobody's directory, by root neither
        host = library.open_host()
        asked = library.who_below(host, top, ["delete", "rename"], across_mounts=True)
        for place, path in enumerate(asked.survey.paths()):
            alone = library.who(host, path, ["delete", "rename"])
            for right, bits in zip(asked.rights, asked.answers.keys[asked.answers.number[place]], strict=True):
                assert [*asked.universe.members(bits or 0)] == alone.who_can(right), (path, right)
        assert not library.who(host, at, ["delete"]).who_can("delete")
        both = machine("set", top, at, "--below", "--mode", "o=", "--preview")  # each once, whichever target it is of
        assert sorted(one["path"] for one in both["results"]) == sorted(asked.survey.paths())
        assert {
            loss["paths"] for loss in both["losses"] if (loss["who"], loss["right"]) == ("anyone-else", "list")
        } == {2}
        done = fiat("who", top, "--below")
        assert f"Not counted: other file systems are mounted at {at}" in done.stdout
        assert fiat("set", top, "--below", "--mode", "go=").returncode == 0
        assert os.stat(f"{at}/inside").st_mode & 0o777 == 0o600
    finally:
        subprocess.run(["umount", at], check=True)
    _, survey = surveyed("/proc/self/fdinfo")  # the kernel's own, which has neither lists nor births
    assert len(survey) > 1


@pytest.mark.root
def test_what_may_not_be_read_is_told(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    for name, mode in (("shut", 0o700), ("listed", 0o744)):
        make(f"{top}/{name}", mode, directory=True)
        make(f"{top}/{name}/inside", 0o644)
    os.chmod(folder, 0o755)
    nobody = user(LiveHost().accounts.user_named("nobody"), (65534,))  # type: ignore[arg-type]
    survey = as_somebody(nobody, lambda: surveyed(top)[1])
    assert set(survey.paths()) == {top, f"{top}/shut", f"{top}/listed"}
    # what only may be listed cannot be entered, and so nothing in it be looked at
    assert [(trouble.path, trouble.errno) for trouble in survey.troubles] == [
        (f"{top}/{name}", 13) for name in ("listed", "shut")
    ]


def come_and_go(top: str) -> None:
    """Make and remove, and turn into one another, files, directories and links."""
    dice = random.Random(1)
    while True:
        with suppress(OSError):
            path = f"{top}/d{dice.randrange(30)}/n{dice.randrange(20)}"
            what = dice.randrange(5)
            if what == 0:
                os.mkdir(path)
            elif what == 1:
                os.symlink("/etc", path)
            elif what == 2:
                os.close(os.open(path, os.O_CREAT, 0o755))
            elif what == 3:
                os.rmdir(path)
            else:
                os.unlink(path)


@pytest.mark.slow
def test_a_tree_that_changes_while_it_is_read(folder: str, monkeypatch: pytest.MonkeyPatch) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    for number in range(30):
        make(f"{top}/d{number}", 0o755, directory=True)
    changing = in_child(lambda: come_and_go(top))
    met = set()
    try:
        with many_parts(monkeypatch, 2):
            for _ in range(60):
                _, survey = surveyed(top)
                assert len(survey) >= 31
                assert len(set(survey.paths())) == len(survey)
                assert not any(path.startswith("/etc") for path in survey.paths())
                met |= {trouble.errno for trouble in survey.troubles}
    finally:
        os.kill(changing, 9)
        os.waitpid(changing, 0)
    assert met <= {2, 20, 40}  # gone; no directory any more; a link now


@pytest.mark.slow
def test_deep_long_and_wide(folder: str) -> None:
    top = here = make(f"{folder}/deep", 0o755, directory=True)
    home, levels = os.getcwd(), 1500
    os.chdir(here)
    for _ in range(levels):
        os.mkdir("d" * 200)
        os.chdir("d" * 200)
    os.close(os.open("x" * 255, os.O_CREAT, 0o600))
    os.chdir(home)
    try:
        route, survey = surveyed(top)
        assert len(survey) == levels + 2
        assert survey.path(len(survey) - 1) == top + ("/" + "d" * 200) * levels + "/" + "x" * 255
        assert not survey.troubles
        done = fiat("who", top, "--below", "--can", "write", "--anyone-else")
        assert f"write on 0 of {levels + 2:,} paths" in done.stdout
        assert route.end is not None
    finally:
        os.chdir(top)
        for _ in range(levels):
            os.chdir("d" * 200)
        os.unlink("x" * 255)
        for _ in range(levels):
            os.chdir("..")
            os.rmdir("d" * 200)
        os.chdir(home)
    wide = make(f"{folder}/wide", 0o755, directory=True)
    for number in range(30_000):
        os.close(os.open(f"{wide}/{number}", os.O_CREAT, 0o600 if number % 8 else 0o644))
    _, survey = surveyed(wide)
    assert len(survey) == 30_001
    assert sorted(np.bincount(survey.profile)) == [1, 30_000 // 8, 30_000 * 7 // 8]


@pytest.mark.reader("python")  # which one stops where is another matter with threads: see test_native
def test_stopped_in_the_middle_it_tells_what_it_has(folder: str, monkeypatch: pytest.MonkeyPatch) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    for number in range(20):
        make(f"{top}/d{number}", 0o755, directory=True)
        make(f"{top}/d{number}/f", 0o644)
    _, node = open_end(LiveHost(), top)
    assert node is not None

    def stop(entries: int, path: str) -> None:
        if entries > 25:
            raise KeyboardInterrupt

    with many_parts(monkeypatch, 2):
        survey = survey_of(node, progress=stop)
    assert not survey.complete
    assert 20 < len(survey) < 41
    assert len(list(survey.paths())) == len(survey)
    problems: list[PathError] = []
    notes: list[Finding] = []
    with many_parts(monkeypatch, 2):
        (route,) = arrive(LiveHost(), [top])
        listed = look.tree_listing(LiveHost(), route, problem=problems.append, note=notes.extend, progress=stop)
        assert listed is not None
        assert 20 < len(listed.read().places) < 41
    assert [(error.path, error.errno) for error in problems] == [(top, errno.EINTR)]
    assert [note.code for note in notes] == ["stopped"]


def test_formats_of_a_tree_agree(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    os.symlink("nowhere", f"{top}/link")
    path = make(f"{top}/data\n", 0o640)
    os.setxattr(path, ACCESS_XATTR, listbytes.pack(parse_list("u::rw,u:7105:r,g::r,m::r,o::-", int, int)))
    lines = [json.loads(line) for line in fiat("who", top, "--below", "--format", "jsonl").stdout.splitlines()]
    rights = {line["answer"]: line["rights"] for line in lines if "rights" in line}
    paths = {line["path"]: rights[line["answer"]] for line in lines if "kind" in line}
    assert paths.keys() == {top, path, f"{top}/link"}
    assert "uid:7105" in paths[path]["read"]["users"]
    assert paths[f"{top}/link"]["read"] is None
    whole = json.loads(fiat("who", top, "--below", "--format", "json").stdout)
    assert whole["complete"] is True
    assert sum(group["directories"] + group["others"] for group in whole["results"]) == 3
    rows = fiat("who", top, "--below", "--format", "csv").stdout.splitlines()
    assert len(rows) == 4
    assert rows[1].startswith(f"{top},directory,")
    twice = [json.loads(line) for line in fiat("who", top, path, "--below", "--format", "jsonl").stdout.splitlines()]
    numbers = [line["answer"] for line in twice if "rights" in line]
    assert len(numbers) == len(set(numbers)) > 2
