"""Overlays: every answer and every change against the kernel's, errno included."""

import pytest

from support.judging import SEED, WORLDS, Record, judge, worlds
from support.overlaid import seen_overlaid
from support.worlds import protections

pytestmark = pytest.mark.root


@pytest.mark.parametrize("upper", ["ext4", "xfs", "tmpfs"])
@pytest.mark.parametrize("lower", ["ext4", "xfs", "tmpfs"])
def test_every_answer_is_the_kernels(lower: str, upper: str, record_property: Record) -> None:
    for seed in range(SEED, SEED + max(WORLDS // 4, 1)):
        with worlds(lower, 1, seed) as made, protections():
            judge(made, record_property, lambda world: seen_overlaid(world, upper))
