"""How long the trials take: FIAT_TEST_TIMES=100 makes a hundred times as many of each as CI does."""

import os

TIMES = int(os.environ.get("FIAT_TEST_TIMES", "1"))

SEED = int(os.environ.get("FIAT_TEST_SEED", "0"))
"""What the dice of the trials begin with, so that several runs try different things."""


def report(what: str, **counts: int) -> None:
    """Say what a trial has counted, for who runs it with -s."""
    print(f"\n{what}: " + ", ".join(f"{count:,} {name.replace('_', ' ')}" for name, count in counts.items()))
