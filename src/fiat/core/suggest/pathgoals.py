"""Goals for paths alone: which of them are not so, and what may lead there."""

import errno
from collections.abc import Iterator, Sequence

from fiat.core.change.plan import Plan
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Principal, of_accounts
from fiat.core.suggest.combining import combine
from fiat.core.suggest.cost import Cost, Meant, meant_by
from fiat.core.suggest.drafting import Drafting
from fiat.core.suggest.forecast import for_new
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.later import Makers
from fiat.core.suggest.means import MEANS, Means, Need
from fiat.core.suggest.memberships import members_of
from fiat.core.suggest.needs import ROOT, ask, needs_of
from fiat.core.suggest.pathedits import PathEdits
from fiat.core.suggest.proposal import Proposal
from fiat.core.text import visible
from fiat.core.tree.reading import Walked
from fiat.core.tree.walk import Trouble, walk


class PathGoals:
    """Goals for paths alone, of which nothing below is meant: what they propose, and what a plan does for them."""

    def __init__(self, host: Host, goals: Sequence[Goal], terms: Terms, walked: Walked) -> None:
        self.host = host
        self.goals = goals
        self.terms = terms
        self.walked = walked
        self.makers = Makers(host)
        self.edits = PathEdits(host, terms, of_accounts(host.accounts))
        self.missing = 0
        self.skipped: tuple[str, ...] = ()
        self.troubles: tuple[Trouble, ...] = ()
        so_now = {goal: ask(host, goal).allowed is goal.gives for goal in goals}
        members = {goal: self._wrong_members(goal) for goal in goals}
        self.left = tuple(
            goal for goal in goals if not so_now[goal] or members[goal] or (terms.and_new and self._misses_new(goal))
        )
        self.members = members[goals[0]] if len(goals) == 1 and so_now[goals[0]] else ()

    def _wrong_members(self, goal: Goal) -> tuple[Principal, ...]:
        """The members of a group for whom it is not so, since another class decides for them."""
        members = members_of(goal.who, self.host.accounts).principals if goal.who.kind == "group" else ()
        return tuple(member for member in members if ask(self.host, goal, member).allowed is not goal.gives)

    def _misses_new(self, goal: Goal) -> bool:
        """Whether what is made later in the directory that a goal is for would not follow."""
        end = walk(self.host, goal.path).end
        return end is not None and for_new(end, goal, ROOT, self._umask_at(end)) is not None

    def _umask_at(self, end: Object) -> int:
        """What the umasks of all take who make things in a directory today."""
        return self.makers.umask(walk(self.host, end.path), end.posture) if end.posture.directory else 0

    def why_none(self) -> str:
        """Why there is no way."""
        if self.edits.fixed:
            path, why = self.edits.fixed
            return f"{visible(path)} cannot be changed so, not even by root: {why}"
        return f"no change of a mode, a list, an owner or a membership on the way does it{self.terms.by_words}"

    # --- proposals ---

    def proposals(self) -> Iterator[Proposal]:
        """For one goal every combination of means; for several, each means as far as it goes."""
        for names, drafting, latent in self._for_one(self.goals[0]) if len(self.goals) == 1 else self._for_all():
            theirs: tuple[str, ...] | None = ()
            for goal in self.goals:
                if goal.who.kind == "group" and theirs is not None:
                    more = self.edits.for_members(drafting, goal)
                    theirs = None if more is None else theirs or more
            if theirs is None:
                continue
            if self.terms.and_new:
                self._for_new(drafting)
            if all(ask(drafting.then, goal).allowed is goal.gives for goal in self.goals):
                yield Proposal(drafting, names or theirs, latent=latent)

    def _for_one(self, goal: Goal) -> Iterator[tuple[tuple[str, ...], Drafting, int]]:
        edits = self.edits
        needs = edits.noted(self._needs_of(goal))
        choices = [edits.choices(need) for need in needs]
        by_owners = edits.by_owners(self.host, goal, ask(self.host, goal))
        if goal.right.by_name_alone and not goal.gives:  # each does it without the others
            for found, means in by_owners:
                drafting = Drafting(self.host, ROOT, self.walked)
                if edits.apply(drafting, found, means):
                    yield _drafted([means], drafting)
            by_owners = []
        if not all(choices):
            return
        firsts: list[tuple[Object, Means] | None] = [*by_owners]
        for first in firsts or [None]:
            for chosen in combine(choices):
                drafting = Drafting(self.host, ROOT, self.walked)
                if first is not None and not edits.apply(drafting, *first):
                    continue
                if all(edits.add(drafting, need, means) for need, means in zip(needs, chosen, strict=True)):
                    yield _drafted([*(first[1:] if first else ()), *chosen], drafting)

    def _for_all(self) -> Iterator[tuple[tuple[str, ...], Drafting, int]]:
        """One goal after the other, by what costs least, and by each means wherever it can be."""
        known = set()
        for prefer in ("", *(name for name in self.terms.by if MEANS[name].in_posture)):
            drafting = Drafting(self.host, ROOT, self.walked)
            chosen: list[Means] = []
            for goal in self.goals:
                more = self.edits.lead_to(drafting, goal, prefer)
                if more is None:
                    break
                chosen += more
            else:
                if drafting.outcomes not in known:
                    known.add(drafting.outcomes)
                    yield _drafted(chosen, drafting)

    def _for_new(self, drafting: Drafting) -> None:
        """Default lists of the directories that the goals are for, so that what is made there follows."""
        for goal in self.goals:
            end = walk(drafting.then, goal.path).end
            wish = for_new(end, goal, ROOT, self._umask_at(end)) if end is not None else None
            if end is not None and wish is not None and wish.like is not None:
                drafting.add(end, wish, wish.like)

    # --- what comes of one ---

    def covered(self, proposal: Proposal, made: Plan, after: Host) -> tuple[tuple[Finding, ...], Meant] | None:
        """Everything, where nothing of the plan is refused."""
        refused = next((item for item in made.refused()), None)
        if refused is not None and refused.change.errno == errno.E2BIG:
            acl = refused.change.steps.acl or refused.change.steps.default
            entries = 0 if acl is None else len(acl.entries)
            self.edits.fixed = refused.path, f"its list would have {entries:,} entries, more than fit"
        return None if refused is not None else ((), meant_by(self.goals))

    def is_enough(self, cost: Cost) -> bool:
        """Never: on few objects every way is looked at."""
        return False

    # --- memberships ---

    def postures(self) -> Iterator[Posture]:
        """What decides now, of which a membership may have others match something else."""
        for goal in self.goals:
            yield from (need.object.posture for need in self._needs_of(goal))

    def holds(self, member: Principal) -> bool:
        """Whether all goals hold for who has joined a group, or left it."""
        return all(ask(self.host, goal, member).allowed is goal.gives for goal in self.goals)

    def _needs_of(self, goal: Goal) -> Iterator[Need]:
        verdict = ask(self.host, goal)
        if verdict.allowed is not goal.gives:
            yield from needs_of(goal, verdict)
            return
        # so it is for a group, and not for a member whom another class decides for: where there are no lists they can
        # be given no entry of their own, and something that all members are of has to become of the object
        for member in self._wrong_members(goal):
            for need in needs_of(goal, ask(self.host, goal, member)):
                if need.object.keeps_lists is False:
                    yield need
            return


def _drafted(chosen: Sequence[Means], drafting: Drafting) -> tuple[tuple[str, ...], Drafting, int]:
    """By which means, what was drafted, and how many rights of others move on the objects themselves."""
    names = tuple(dict.fromkeys(name for means in chosen for name in means.names))
    return names, drafting, sum(sum(means.local[1:]) for means in chosen)
