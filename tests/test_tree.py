"""What trees are worked with: answers put together, chosen entries, handles, processes, names that share an inode."""

import multiprocessing
import os
import signal
from collections import Counter
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fiat.core.ask.who import universe_of
from fiat.core.change.making import make_plan
from fiat.core.errors import WorkError
from fiat.core.model.accounts import Accounts, User
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Object
from fiat.core.model.right import ALL, BASIC, READ
from fiat.core.model.wish import Wish
from fiat.core.rules.access import Access
from fiat.core.tree.answers import TreeAccess, for_tree
from fiat.core.tree.summary import ByOwner, Groups, topmost
from fiat.core.tree.walk import Handles
from fiat.core.words.selection import Feature, Selection
from fiat.engine.processes import Workers
from fiat.host.image.host import ImageHost
from fiat.host.live.host import LiveHost
from support.files import make
from support.generators import GIDS, UIDS, hosts
from support.surveys import surveyed, target

selections = st.builds(
    Selection,
    only=st.sampled_from([None, "files", "dirs"]),
    name=st.sampled_from([None, "n*", "n[0-4]", "*7"]),
    uid=st.sampled_from([None, None, *UIDS]),
    gid=st.sampled_from([None, None, *GIDS]),
    every=st.sampled_from([(), (), (Feature(0o002),), (Feature(has=("list",)), Feature(0o1000))]),
    any_of=st.sampled_from([(), (), (Feature(0o4000), Feature(0o1000)), (Feature(has=("no-owner",)), Feature(0o020))]),
    none_of=st.sampled_from([(), (), (Feature(0o002),), (Feature(has=("list",)), Feature(0o040))]),
)


@pytest.mark.slow
@given(hosts(), selections)
def test_groups_are_counted_as_one_by_one(host: ImageHost, selection: Selection) -> None:
    route, survey = surveyed(host, "/")
    universe = universe_of(host.accounts, (found.posture for found in host.objects.values()))
    access = TreeAccess(host, Access(universe, host.settings), BASIC)
    answers = access.answers(survey, route)
    chosen = survey.chosen(selection.on(host.accounts))
    objects: list[Object] = [survey.object(place, path) for place, path in enumerate(survey.paths())]
    assert chosen.tolist() == [selection.takes(found, host.accounts) for found in objects]
    keys = [answers.keys[number] for number in answers.number]
    counts = Counter(
        (key, found.posture.directory) for key, found, taken in zip(keys, objects, chosen, strict=True) if taken
    )
    groups = Groups(survey, answers, chosen)
    assert (
        Counter({(group.answer, True): group.directories for group in groups})
        + Counter({(group.answer, False): group.others for group in groups})
        == counts
    )
    for group in groups:
        places = set()
        for place, found in enumerate(objects):
            parent = int(survey.parent[place])
            if not chosen[place] or keys[place] != group.answer:
                continue
            if not found.posture.directory:
                places.add(parent)
            elif not place or keys[parent] != group.answer or not chosen[parent]:
                places.add(place)
        assert (group.places, group.first) == (len(places), tuple(sorted(places)[:3]))
        assert group.example == next(p for p in range(len(survey)) if chosen[p] and keys[p] == group.answer)


@pytest.mark.slow
@given(hosts(), selections, st.booleans())
def test_answers_by_owner_can_be_put_together_again(host: ImageHost, selection: Selection, crowded: bool) -> None:
    route, survey = surveyed(host, "/")
    universe = universe_of(host.accounts, (found.posture for found in host.objects.values()))
    access = TreeAccess(host, Access(universe, host.settings), ALL)
    if crowded:
        access = for_tree(host, universe, ALL, route, survey)
    answers = access.answers(survey, route)
    chosen = survey.chosen(selection.on(host.accounts))
    rows = ByOwner(survey, answers, universe, chosen)
    of_answers = rows.rows_of_answers()
    said: dict[tuple[object, ...], int] = {}
    for place, taken in enumerate(chosen.tolist()):
        number = int(rows.number[place])
        assert (number >= 0) == taken
        if not taken:
            continue
        posture, key, row = survey.object(place).posture, answers.keys[answers.number[place]], rows[number]
        assert posture.uid in row.uids
        assert posture.gid in row.gids
        assert number in of_answers[int(answers.number[place])]
        again = [
            None if one is None else one.put_together(universe, uid=posture.uid, gid=posture.gid) for one in row.rights
        ]
        assert tuple(again) == key
        assert said.setdefault(row.rights, number) == number  # what is said in the same words is one row


@pytest.mark.slow
@given(hosts(), st.data())
def test_the_topmost_stand_for_all_of_them(host: ImageHost, data: st.DataObject) -> None:
    _, survey = surveyed(host, "/")
    meant, holds = (
        np.array(data.draw(st.lists(st.sampled_from(some), min_size=len(survey), max_size=len(survey))), np.bool_)
        for some in ((True, True, True, False), (True,) * data.draw(st.integers(1, 12)) + (False,))
    )
    holds &= meant
    told: Counter[int] = Counter()
    for top in topmost(survey, meant, holds):
        under = range(top.place, int(survey.end[top.place]))
        stands = top.paths > 1 or top.but or not top.itself
        some = [place for place in under if meant[place] and place not in top.but] if stands else [top.place]
        assert all(holds[place] for place in some)
        assert not any(holds[place] for place in top.but)
        assert len(some) == top.paths
        assert top.itself == meant[top.place]
        told.update(some)
    assert told == Counter(np.flatnonzero(holds).tolist())


@pytest.mark.slow
@given(hosts(), st.data())
def test_the_paths_of_some_entries_are_those_of_each(host: ImageHost, data: st.DataObject) -> None:
    _, survey = surveyed(host, "/")
    some = sorted(data.draw(st.sets(st.integers(0, len(survey) - 1))))
    assert list(survey.paths_of(some)) == [(place, survey.path(place)) for place in some]
    for place in some:
        inside = {survey.path(other) for other in range(place, int(survey.end[place]))}
        top = survey.path(place).rstrip("/")
        assert inside == {path for path in host.objects if f"{path}/".startswith(f"{top}/")}


def test_handles_follow_no_link_and_stay_where_they_are(folder: str) -> None:
    for name in ("a", "a/b", "c"):
        make(f"{folder}/{name}", 0o755, directory=True)
    for name in ("a/b/f", "a/g", "c/f"):
        make(f"{folder}/{name}", 0o600)
    os.symlink("c", f"{folder}/link")
    handles = Handles(LiveHost())
    try:
        for name in ("a/b/f", "a/g", "a/b", "c/f", "c", "a/b/f"):
            node = handles.open(f"{folder}/{name}")
            assert node.glance().identity.inode == os.stat(f"{folder}/{name}").st_ino
            node.close()
        with pytest.raises(NotADirectoryError):
            handles.open(f"{folder}/link/f")
        node = handles.open(f"{folder}/link")
        assert node.look().target == "c"
        node.close()
        kept = handles.open(f"{folder}/a/b/f")
        kept.close()
        os.rename(f"{folder}/a", f"{folder}/moved")
        os.symlink("c", f"{folder}/a")
        node = handles.open(f"{folder}/a/b/f")  # the directory that was held, wherever it is now
        assert node.glance().identity.inode == os.stat(f"{folder}/moved/b/f").st_ino
        node.close()
        root = handles.open("/")
        assert root.look().path == "/"
        root.close()
    finally:
        handles.close()


def test_workers_do_their_pieces_and_tell_what_went_wrong() -> None:
    def begin() -> Callable[[int], tuple[int, int]]:
        done = 0

        def do(piece: int) -> tuple[int, int]:
            nonlocal done
            done += 1
            if piece == 13:
                raise FileNotFoundError(2, "thirteen")
            if piece == 99:
                os.kill(os.getpid(), signal.SIGKILL)
            return piece * piece, done

        return do

    with Workers(3, begin) as workers:
        waiting, found = list(range(12)), []
        while waiting or workers.busy:
            while waiting and workers.idle:
                workers.give(waiting.pop())
            found += workers.results()
        assert sorted(one.value()[0] for one in found) == [number * number for number in range(12)]
        for worker in range(3):
            turns = [one.value()[1] for one in found if one.number == worker]
            assert turns == list(range(1, len(turns) + 1))
        workers.give(13)
        with pytest.raises(FileNotFoundError, match="thirteen"):
            workers.results()[0].value()
    with Workers(2, begin) as workers:
        workers.give(99)
        with pytest.raises(WorkError, match="killed by signal 9"):
            workers.results()[0].value()
        assert (workers.count, workers.busy) == (1, False)
        workers.give(4)
        assert workers.results()[0].value() == (16, 1)


def test_a_process_that_ends_before_it_has_a_piece_is_not_missed() -> None:
    """Memory can run out where it begins."""
    first = multiprocessing.Value("i", 1)

    def begin() -> Callable[[int], int]:
        with first.get_lock():
            first.value -= 1
            if first.value == 0:
                raise MemoryError
        return abs

    with Workers(2, begin) as workers:
        while workers.count > 1:
            assert workers.results() == []
        assert len(workers.idle) == 1
        workers.give(-3)
        assert [one.value() for one in workers.results()] == [3]


def test_what_is_sent_in_part_is_not_waited_for() -> None:
    """Memory can run out between two parts of a large result: what came next would be taken for the rest of it."""

    def do(piece: int) -> bytes:
        sizes = [100, 0]
        write = os.write

        def written(fd: int, data: memoryview) -> int:
            size = sizes.pop(0) if sizes else len(data)
            if not size:
                raise MemoryError
            return write(fd, data[:size])

        os.write = written  # type: ignore[assignment]  # in that process alone
        return bytes(piece)

    with Workers(1, lambda: do) as workers:
        workers.give(200_000)
        with pytest.raises(WorkError, match="ended with status 0"):
            workers.results()[0].value()


def test_every_name_of_an_inode_counts_in_gains(folder: str) -> None:
    os.chmod(folder, 0o755)
    top = make(f"{folder}/tree", 0o755, directory=True)
    os.link(make(f"{top}/one", 0o600), f"{top}/two")
    host = LiveHost(Accounts([User("root", 0, 0), User("keeper", 7101, 7101)], [], "the test"))
    whole = target(host, top)
    one = whole._replace(chosen=whole.survey.chosen(Selection(name="one").on(host.accounts)))
    assert np.flatnonzero(one.chosen).size == 1
    made = make_plan(host, [one], Wish(parse_change("o+r")))
    assert [item.path for item in made.to_write()] == [f"{top}/one"]
    assert {(gain.principal.name, gain.right, gain.paths) for gain in made.gains} >= {("keeper", READ, 2)}
    assert not made.guards
