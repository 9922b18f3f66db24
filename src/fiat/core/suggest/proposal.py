"""Proposals: changes of which each may be a way to some goals, and is made a plan to see."""

from typing import NamedTuple

from fiat.core.change.plan import Plan
from fiat.core.change.target import Target
from fiat.core.model.finding import Finding
from fiat.core.suggest.cost import Draft
from fiat.core.suggest.drafting import Drafting
from fiat.core.suggest.treeedits import TreeEdits


class Proposal(NamedTuple):
    """Changes that may be a way: of single objects (``drafting``), and of trees, kind by kind (``edits``).

    ``names`` are the means that the single objects take, ``otherwise`` is told where nothing took any. ``latent`` is
    that of :class:`~fiat.core.suggest.cost.Cost`.
    """

    drafting: Drafting
    names: tuple[str, ...]
    otherwise: str = "entry"
    latent: int = 0
    edits: tuple[TreeEdits, ...] = ()

    @property
    def in_trees(self) -> bool:
        """Whether what lies below is changed, and not only the tops."""
        return any(not one.preference.top for one in self.edits)

    def targets(self) -> list[Target]:
        """What the plan for it changes."""
        return [*self.drafting.targets(), *(one.target() for one in self.edits if not one.preference.top)]

    def draft(self, made: Plan, short: tuple[Finding, ...]) -> Draft:
        """What it does, once its plan is made, which is when trees are known kind by kind."""
        names = dict.fromkeys((*(name for one in self.edits for name in one.names), *self.names))
        return Draft(
            tuple(names) or (self.otherwise,),
            tuple(self.drafting.steps),
            None,
            made,
            self.drafting.entries + sum(one.entries for one in self.edits),
            self.latent,
            tuple(dict.fromkeys(wish for one in self.edits for wish in one.wishes)),
            self.in_trees,
            short,
        )
