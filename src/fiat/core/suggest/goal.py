"""Goals: who shall have which right where, or shall not."""

from collections.abc import Sequence
from typing import NamedTuple

from fiat.core.model import right as rights
from fiat.core.model.mode import EXECUTE, EXECUTE_BITS, READ, WRITE
from fiat.core.model.posture import Format, Kind
from fiat.core.model.principals import Principal
from fiat.core.model.right import Right
from fiat.core.suggest.means import MEANS
from fiat.core.tree.profile import Profile

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

    @property
    def by_words(self) -> str:
        """The means that are asked for, as the end of a sentence; empty where it is all of them."""
        return "" if self.by == tuple(MEANS) else f" by {', '.join(self.by)}"

    def spares(self, movers: set[tuple[object, ...]]) -> bool:
        """Whether none of those who move, by identity, is to be spared."""
        return not any(who.identity in movers for who in self.spare)


class Goal(NamedTuple):
    """``who`` shall have ``right`` at ``path`` (``gives``), or shall not; with ``below`` on all that lies there too."""

    who: Principal
    right: Right
    path: str
    gives: bool
    below: bool = False

    @property
    def names_itself(self) -> bool:
        """Whether the name at ``path`` is meant, and not what it leads to; else ``path`` is real."""
        return self.right.by_name_alone and not self.below

    def means(self, profile: Profile) -> bool:
        """Whether ``right`` is meant on what has this profile, in a tree.

        Names are made in directories; only what somebody may run is meant to be run.
        """
        kind = profile.posture.kind
        if self.right is rights.CREATE:
            return kind is Kind.DIRECTORY
        if self.right is rights.EXECUTE and not profile.posture.mode & EXECUTE_BITS:
            return False
        return self.right.applies(kind)

    def asks(self, profile: Profile) -> int:
        """The permissions that who it is about needs at once in a tree, on what has this profile; 0 for none.

        To have something below a directory is to traverse it.
        """
        directory = profile.posture.directory
        if not (directory if self.right.by_name else self.means(profile)):
            return EXECUTE if directory and self.gives else 0
        want = self.right.permission
        if directory and (self.gives or want == WRITE):
            return want | EXECUTE
        program = profile.program
        if self.gives and want == EXECUTE and program is not None and program.format is Format.SCRIPT:
            return want | READ
        return want

    @property
    def part(self) -> int:
        """The permission that is taken where the right is to be taken."""
        return self.right.permission


def implied_by(goals: Sequence[Goal]) -> frozenset[Right]:
    """The rights that goals for a tree move of themselves: those that count for them, and traverse to get there."""
    found = {goal.right.counts_as for goal in goals}
    for goal in goals:
        if goal.right.by_name:
            found.add(rights.WRITE)
        if goal.gives:
            found |= {rights.TRAVERSE, *goal.right.implies}
    return frozenset(found)
