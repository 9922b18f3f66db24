"""Snapshots: what a saved host answers is what the live one does; files whole or refused; nothing through a link."""

import errno
import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from fiat.app.save import Into, save
from fiat.core.ask.who import Answer, universe_of
from fiat.core.errors import PathError
from fiat.core.model.host import Host
from fiat.core.model.right import ALL, CREATE
from fiat.core.rules.access import Access
from fiat.core.tree.answers import TreeAccess
from fiat.core.tree.extent import Extent
from fiat.core.tree.reading import survey_at
from fiat.core.tree.walk import walk
from fiat.host.live.accounts import from_folder
from fiat.host.live.host import LiveHost
from fiat.host.snapshot import reader
from support.estates import Estate, write_accounts
from support.filesystems import fresh
from support.times import report
from support.worlds import World

SEEDS = int(os.environ.get("FIAT_JUDGE_SNAPSHOTS", "6"))


def kept(host: Host, path: str, file: Path, *, across: bool) -> Host:
    """What is saved of ``path``, read again."""
    problems: list[PathError] = []
    save(host, [path], Into(str(file)), across_mounts=across, problem=problems.append)
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
        asked, again = Answer(live, one, rights), Answer(held, other, rights)
        for place, who in enumerate(asked.universe.principals):
            assert again.universe.principals[place] == who
            for right in rights:
                expected, found = asked.verdict(place, right), again.verdict(place, right)
                assert (expected.errno, expected.deciding.rule) == (found.errno, found.deciding.rule), (
                    path,
                    who,
                    right,
                )
                same += 1
    return same, outside


@pytest.mark.root
@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs", "tmpfs"])
def test_a_snapshot_answers_as_the_host_that_it_was_taken_of(kind: str, tmp_path: Path) -> None:
    """Uniform worlds and estates that look like real ones; for every right, path by path and the tree at once."""
    same = outside = entries = 0
    with fresh(kind) as top:
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
                    if below in estate.mounts and not across:
                        assert other[0][1], "nothing is known of what was left out, and that is said"
                        continue
                    assert one == other, below
                    entries += len(one)
                counts = compare_paths(live, held, [*estate.directories, *estate.files, *estate.links])
                same, outside = same + counts[0], outside + counts[1]
    report(f"snapshots on {kind}", answers=same, outside=outside, entries=entries)
    assert same > 4000 * SEEDS
    assert outside < same / 100
