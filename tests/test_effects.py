"""Gains and losses that a plan foretells, against the kernel's own answers for everyone before and after."""

import os
import tempfile
from collections.abc import Callable
from typing import Any

import pytest

from fiat.core.ask import effects
from support.estates import ACCEPT, Estate, Having, between, foretold, having, paths_under, remember, write_accounts
from support.filesystems import fresh
from support.program import answer
from support.worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_ESTATES", "8"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
PLANS = 6
"""Changes made in each estate, one after the other."""


def only_as_documented(estate: Estate, elsewhere: Having, meant: set[str], told: dict[str, object]) -> bool:
    """Whether what differs elsewhere is what Fiat leaves out: further names, and scripts that run with what changed."""
    inodes = {os.lstat(path).st_ino for path in meant}
    names = {path for _, _, path in elsewhere if os.lstat(path).st_ino in inodes and path in estate.files}
    caveats = told["caveats"]
    assert isinstance(caveats, list)
    if names and not any(caveat["code"] == "names-not-counted" for caveat in caveats):
        return False
    return all(path in names or right == "execute" for _, right, path in elsewhere)


@pytest.mark.slow
@pytest.mark.root
@pytest.mark.parametrize("kind", ["here", "tmpfs"])
def test_gains_and_losses_are_the_kernels(kind: str) -> None:
    wrong: dict[tuple[int, int], str] = {}
    compared = 0
    with fresh(kind) as top, tempfile.TemporaryDirectory(prefix="fiat-test-") as accounts, protections():
        write_accounts(accounts)
        for seed in range(SEED, SEED + SEEDS):
            estate = Estate(top, seed)
            remember(estate)
            before = having(estate)
            for number in range(PLANS):
                words = ["set", *estate.plan(), "--accounts", accounts, "--format", "json", "--no-history"]
                told = answer([*words, "--preview"])
                answer([*words, *ACCEPT])
                remember(estate)
                after = having(estate)
                compared += len(after | before)
                known = paths_under(estate, words)
                for name, one, other in (("gains", before, after), ("losses", after, before)):
                    said, real = foretold(told[name]), between(one, other, known)
                    if said != real:
                        differs = f"said {dict(said - real)}, really {dict(real - said)}"
                        wrong[seed, number] = f"seed {seed}: fiat {' '.join(words[:-5])}: {name}: {differs}"
                elsewhere = frozenset(one for one in before ^ after if one[2] not in known)
                assert only_as_documented(estate, elsewhere, known, told), (words, elsewhere)
                before = after
    assert compared > 1000 * SEEDS
    assert not wrong, "\n".join(wrong.values())


DERIVED: dict[str, tuple[str, Callable[[Any], list[object]]]] = {
    "a preview": ("set /srv/skerry/observatory --mode o+x --preview", lambda found: found["gains"]),
    "a preview of a tree": ("set /srv/skerry/charts --below --mode o= --preview", lambda found: found["losses"]),
    "a guard": (
        "set /srv/skerry/observatory --mode o+wx --preview",
        lambda found: [guard for guard in found["guards"] if guard["name"] == "everyone-writes"],
    ),
    "a supposed membership": (
        "who /srv/skerry/observatory --if-member surveyor:watch",
        lambda found: found["results"][0]["against_today"]["gains"],
    ),
    "a supposed membership in a tree": (
        "who /srv/skerry --below --if-member surveyor:watch",
        lambda found: found["against_today"]["gains"],
    ),
    "advice": (
        "why chartpress write /srv/skerry/log/chartpress.log",
        lambda found: [one for one in found["results"][0]["changes"] if one["others"]],
    ),
}
"""What is derived from gains and losses: a command line on the sample, and what of its answer holds them."""


@pytest.mark.parametrize("name", DERIVED)
def test_all_that_is_derived_comes_from_one_function(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    line, part = DERIVED[name]
    words = [*line.split(), "--from", "skerry", "--format", "json"]
    assert part(answer(words))
    monkeypatch.setattr(effects, "more", lambda before, after: {})
    assert not part(answer(words))
