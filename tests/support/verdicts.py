"""The answers of two hosts about one path."""

from collections.abc import Sequence

from fiat.core.ask.who import Answer
from fiat.core.model.right import Right


def same_verdicts(one: Answer, other: Answer, rights: Sequence[Right], about: object) -> int:
    """Assert that both give everybody the same verdict, by the same rule; how many there are."""
    for place, who in enumerate(one.universe.principals):
        assert other.universe.principals[place] == who
        for right in rights:
            expected, found = one.verdict(place, right), other.verdict(place, right)
            real, said = ((verdict.errno, verdict.deciding.rule) for verdict in (expected, found))
            assert real == said, (about, who, right)
    return len(one.universe.principals) * len(rights)
