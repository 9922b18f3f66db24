"""Overlays: every answer and every change against the kernel's, errno included.

FIAT_JUDGE_WORLDS and FIAT_JUDGE_SEED as for the other judges of answers.
"""

import os
import random
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from fiat.core.model.capabilities import CHOWN, DAC_OVERRIDE, DAC_READ_SEARCH
from fiat.core.model.posture import Object
from fiat.core.model.principals import Universe, user
from fiat.core.model.right import ALL
from fiat.core.rules.access import Access
from fiat.core.tree.answers import for_tree
from fiat.core.tree.reading import survey_of
from fiat.core.tree.walk import Extent, open_end, route_for
from fiat.host.live import layers
from fiat.host.live.host import LiveHost
from support.changing import changed_and_put_back
from support.files import set_state, state_of
from support.filesystems import fresh
from support.judging import SEED, WORLDS, Record, disagreements, judge, worlds
from support.overlaid import overlay, seen_overlaid
from support.places import trusted_folder
from support.program import fiat, machine
from support.worlds import protections

pytestmark = pytest.mark.root

_OPTIONS = ("", "index=on", "redirect_dir=on", "metacopy=on", "xino=on", "userxattr")


@pytest.mark.parametrize("upper", ["ext4", "xfs", "tmpfs", None])
@pytest.mark.parametrize("lower", ["ext4", "xfs", "tmpfs"])
def test_every_answer_is_the_kernels(lower: str, upper: str | None, record_property: Record) -> None:
    for seed in range(SEED, SEED + max(WORLDS // 4, 1)):
        options = _OPTIONS[seed % len(_OPTIONS)] if upper is not None else ""
        with worlds(lower, 1, seed) as made, protections():
            judge(made, record_property, lambda world: seen_overlaid(world, upper, options), keeping=True)  # noqa: B023


@pytest.mark.parametrize("powers", [0, DAC_OVERRIDE, DAC_READ_SEARCH, CHOWN])
def test_who_mounted_it_is_asked_too(powers: int, record_property: Record) -> None:
    """By the rights of root without most of its powers, a part of the tree is shut to everybody."""
    for seed in range(SEED, SEED + max(WORLDS // 2, 1)):
        with worlds("tmpfs", 1, seed) as made, protections():
            judge(made, record_property, lambda world: seen_overlaid(world, None, "", powers), keeping=True)


@pytest.mark.slow
@pytest.mark.parametrize(("upper", "powers"), [("tmpfs", None), ("xfs", None), (None, 0), (None, DAC_READ_SEARCH)])
def test_a_tree_answers_as_its_paths_do(upper: str | None, powers: int | None) -> None:
    for seed in range(1, 13):
        with worlds("tmpfs", 1, seed) as (world,), protections(), seen_overlaid(world, upper, "", powers):
            host = LiveHost(world.people)
            universe = Universe([user(one, world.people.gids_of(one)) for one in world.people.users])
            route, node = open_end(host, world.top)
            assert node is not None
            survey = survey_of(node, Extent())
            node.close()
            tree = for_tree(host, universe, ALL, route, survey).answers(survey, route)
            access = Access(universe, host.settings)
            for place, path in enumerate(survey.paths()):
                for right, bits in zip(ALL, tree.keys[tree.number[place]], strict=True):
                    if bits is not None and not os.path.islink(path):
                        assert bits == access.allowed(route_for(host, path, right), right), (seed, path, right)


@pytest.mark.slow
@pytest.mark.parametrize("options", ["", "index=on", "metacopy=on"])
@pytest.mark.parametrize(("lower", "upper"), [("ext4", "ext4"), ("tmpfs", "xfs"), ("xfs", "tmpfs")])
def test_what_is_planned_on_it_is_what_happens_and_can_be_put_back(lower: str, upper: str, options: str) -> None:
    total = 0
    for seed in range(1, 7):
        dice = random.Random(seed)
        with worlds(lower, 1, seed) as (world,), seen_overlaid(world, upper, options), trusted_folder() as folder:
            everyone = [user(account, world.people.gids_of(account)) for account in world.people.users]
            for who in (everyone[0], dice.choice(everyone[1:])):
                before = {path: state_of(path) for path in world.objects}
                made = changed_and_put_back(world, who, dice, folder)
                total += made.tried
                assert made.failed == []
                for path in made.attempted:
                    set_state(path, before[path])
                assert {path: state_of(path) for path in before} == before
    assert total > 100


@contextmanager
def a_small_overlay(options: str = "") -> Iterator[str]:
    """Two names of one file and a directory, all in the lower layer."""
    with fresh("tmpfs") as top, fresh("ext4") as upper:
        os.mkdir(f"{top}/folder")
        for name in ("note", "folder/inside"):
            with open(f"{top}/{name}", "w") as file:
                file.write("read me\n")
        os.link(f"{top}/note", f"{top}/again")
        with overlay(top, upper, options):
            yield top


@pytest.mark.parametrize("options", ["", "index=on"])
def test_of_several_names_below_one_changes_alone_where_there_is_no_index(options: str) -> None:
    with a_small_overlay(options) as top, trusted_folder() as folder:
        history = ("--history", f"{folder}/history.db")
        alone = fiat("set", f"{top}/note", "--mode", "600", *history)
        if options:
            assert "hard-links" in alone.stderr
        else:
            assert "the other names keep what they have" in alone.stdout
        together = fiat("set", top, "--below", "--only", "files", "--mode", "640", *history)
        assert together.returncode == 0, together.stderr
        assert {os.stat(f"{top}/{name}").st_mode & 0o777 for name in ("note", "again")} == {0o640}
        assert fiat("undo", *history).returncode == 0
        assert os.stat(f"{top}/again").st_mode & 0o777 == 0o644
        assert os.stat(f"{top}/note").st_mode & 0o777 == (0o644 if options else 0o600)


def test_a_directory_of_a_lower_layer_is_not_renamed_and_it_is_said_why() -> None:
    with a_small_overlay() as top:
        said = fiat("why", "root", "rename", f"{top}/folder")
        assert (said.returncode, "EXDEV" in said.stdout, "lower layer" in said.stdout) == (1, True, True)
        assert not any(one["code"] == "overlay" for one in machine("who", f"{top}/folder")["caveats"])
        os.mkdir(f"{top}/made")
        assert fiat("why", "root", "rename", f"{top}/made").returncode == 0
        os.rename(f"{top}/made", f"{top}/moved")
        with pytest.raises(OSError, match="cross-device"):
            os.rename(f"{top}/folder", f"{top}/folder.moved")


# --- the judge can fail ----------------------------------------------------------------

FAULTS: dict[str, tuple[tuple[object, str, object], str | None, int | None]] = {
    "every directory can be moved": ((Object, "stays", False), "tmpfs", None),
    "who mounted it may do everything": ((layers, "refused", lambda through, wants: ()), None, 0),
}


@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_catches(fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    wrong, upper, powers = FAULTS[fault]
    monkeypatch.setattr(*wrong)
    with protections():
        for seed in range(1, 40):
            with worlds("tmpfs", 1, seed) as (world,), seen_overlaid(world, upper, "", powers):
                if disagreements(world, keeping=True)[1]:
                    return
    pytest.fail("no disagreement in 39 worlds")
