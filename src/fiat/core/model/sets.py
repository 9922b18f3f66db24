"""Sets of principals, whatever holds them.

Of one posture a set of principals is a whole number
(:mod:`fiat.core.model.principals`); of many postures it is a row of 64-bit
words for each (:mod:`fiat.core.tree.setrows`). The operators ``& | ~`` mean
the same of both, so that a rule is written once over sets. What a rule needs
besides is a :class:`Sets`.
"""

from collections.abc import Callable
from typing import Any, Protocol

Set = Any
"""A set of principals, or one for each of many postures: what has the operators ``& | ~`` of sets."""

Number = Any
"""A number that a posture holds, or a column of one for each of many."""

Condition = Any
"""Whether something holds: of one posture, or a column of it for each of many."""


class Sets(Protocol):
    """What holds sets of principals: whole numbers for one posture, or rows of words for many."""

    def constant(self, bits: int) -> Set:
        """The set with the bits of ``bits``."""

    def lookup(self, of: Callable[..., int], *numbers: Number) -> Set:
        """The set that ``of`` says for these numbers, of each posture for its own."""

    def where(self, condition: Condition, principals: Set) -> Set:
        """``principals`` where the condition holds, nobody elsewhere."""


class IntSets:
    """Whole numbers, for one posture."""

    def constant(self, bits: int) -> int:
        """``bits`` itself: of one posture a set is a whole number."""
        return bits

    def lookup(self, of: Callable[..., int], *numbers: int) -> int:
        """What ``of`` says of these numbers."""
        return of(*numbers)

    def where(self, condition: bool, principals: int) -> int:
        """``principals`` where the condition holds, else 0."""
        return principals if condition else 0


INT_SETS = IntSets()
