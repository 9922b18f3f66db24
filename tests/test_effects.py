"""Gains and losses that a plan foretells, against the kernel's own answers for everyone before and after."""

import io
import json
import os
import tempfile
from collections import Counter
from contextlib import redirect_stderr, redirect_stdout

import pytest

from estates import Estate, Having, having, remember, write_accounts
from fiat.cli.main import main
from filesystems import ROOT, fresh
from worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_ESTATES", "8"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
PLANS = 6
"""Changes made in each estate, one after the other."""

_GUARDS = "lockout everyone-writes privilege system-path from-root clears-special hard-links unmasks".split()
_ACCEPT = [word for guard in _GUARDS for word in ("--accept", guard)]

COUNTED = ("read", "write", "execute", "traverse")
"""The rights that Fiat counts so far; the others are judged as soon as they are."""

EXPECTED: dict[str, set[tuple[int, int]]] = {
    "here": {(1, 3), (2, 2), (3, 1), (3, 5), (4, 0), (4, 3), (5, 0), (5, 1), (8, 2)},
    "tmpfs": {(1, 3), (2, 2), (3, 1), (4, 0), (4, 3), (5, 0), (5, 1), (8, 2)},
}
"""What is known to be wrong so far, by file system: the estate and the number of the plan in it."""

Shifts = Counter[tuple[str, str]]


def machine(words: list[str]) -> dict[str, object]:
    out, err = io.TextIOWrapper(io.BytesIO(), "utf-8"), io.StringIO()
    err.reconfigure = lambda **_: None  # type: ignore[attr-defined]
    with redirect_stdout(out), redirect_stderr(err):
        main(words)
    out.seek(0)
    found: dict[str, object] = json.loads(out.read())
    return found


def counted(told: object) -> Shifts:
    """Gains or losses as machine output tells them."""
    assert isinstance(told, list)
    return Counter({(one["who"], one["right"]): one["paths"] for one in told})


def between(before: Having, after: Having) -> Shifts:
    """What is in ``after`` and was not before, by who and right."""
    return Counter((who, right) for who, right, _ in after - before if right in COUNTED)


@pytest.mark.skipif(not ROOT, reason="becomes everyone")
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
                told = machine([*words, "--preview"])
                machine([*words, *_ACCEPT])
                remember(estate)
                after = having(estate)
                compared += len(after | before)
                for name, one, other in (("gains", before, after), ("losses", after, before)):
                    said, real = counted(told[name]), between(one, other)
                    if said != real:
                        differs = f"said {dict(said - real)}, really {dict(real - said)}"
                        wrong[seed, number] = f"seed {seed}: fiat {' '.join(words[:-5])}: {name}: {differs}"
                before = after
    assert compared > 1000 * SEEDS
    expected = EXPECTED[kind] if (SEED, SEEDS) == (1, 8) else set()
    assert wrong.keys() == expected, "\n".join(wrong[one] for one in wrong.keys() - expected) or expected - wrong.keys()
