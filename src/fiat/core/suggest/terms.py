"""On which terms a way is looked for."""

from typing import NamedTuple

from fiat.core.model.principals import Principal
from fiat.core.suggest.means import MEANS

COUNT_LIMIT = 2_000_000
"""So many entries below what is opened are counted, unless another number is asked for."""


class Terms(NamedTuple):
    """By which means; who is to be ``spare``\\ d any gain and any loss; and what else is asked for.

    With ``exact``, members of a group who would get more than is meant have entries of their own. With ``and_new``,
    what is made later follows, by default lists. Of what lies below what is opened, ``most`` entries are counted;
    the cost of a membership is counted in the tree ``cost_over`` as well.
    """

    by: tuple[str, ...] = tuple(MEANS)
    spare: tuple[Principal, ...] = ()
    exact: bool = False
    and_new: bool = False
    most: int = COUNT_LIMIT
    cost_over: str | None = None

    def spares(self, movers: set[tuple[object, ...]]) -> bool:
        """Whether none of those who move, by identity, is to be spared."""
        return not any(who.identity in movers for who in self.spare)
