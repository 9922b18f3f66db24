"""What becomes of each kind of object in a tree, by the means that are preferred there."""

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

import numpy as np

from fiat.core.change.target import Target
from fiat.core.model.accesslist import Tag
from fiat.core.model.mode import EXECUTE
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.route import Route
from fiat.core.model.wish import Wish
from fiat.core.suggest.drafting import Drafting
from fiat.core.suggest.entrywishes import wish_between
from fiat.core.suggest.forecast import for_new
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.later import Makers
from fiat.core.suggest.means import MEANS, Means, Need, outcome, single_means
from fiat.core.suggest.memberships import (
    for_members,
    not_more,
)
from fiat.core.suggest.needs import ROOT
from fiat.core.tree.profile import Profile, profile_of
from fiat.core.tree.survey import Survey

_EXAMPLES = 50
"""So many different wishes are kept to tell what a way does."""


class GoalTree(NamedTuple):
    """A tree that goals are for, as it is: the route to its top, what is there, and which goals.

    ``spared`` is what has these profiles: nobody can change it, and all goals are so there.
    """

    route: Route
    survey: Survey
    goals: tuple[Goal, ...]
    spared: frozenset[Profile] = frozenset()

    @property
    def top(self) -> str:
        """The path of its top."""
        return self.survey.top.path


class Preference(NamedTuple):
    """By which means objects are changed wherever that can be, and by which group; ``top`` where only tops are."""

    name: str
    gid: int | None = None
    top: bool = False


class TreeEdits:
    """What becomes of a tree, profile by profile, by the means that are preferred; ``names`` are those it took."""

    def __init__(
        self,
        tree: GoalTree,
        preference: Preference,
        terms: Terms,
        everyone: Universe,
        members: Mapping[Principal, Universe],
        umask: int,
        makers: Makers,
    ) -> None:
        self._makers = makers
        self.tree = tree
        self.preference = preference
        self.terms = terms
        self.everyone = everyone
        self.members = members
        self.names: dict[str, None] = {}
        self.entries = 0
        self.wishes: dict[Wish, None] = {}
        self._umask = umask
        self._allowed = frozenset(terms.by)
        self._known: dict[Profile, Wish] = {}

    def target(self) -> Target:
        """The tree as the target of a plan."""
        survey = self.tree.survey
        return Target(survey.top.path, self.tree.route, survey, np.ones(len(survey), np.bool_), True, self.wish)

    def close(self, drafting: Drafting) -> None:
        """Let nobody of those whom it is about enter the top."""
        for wish, posture in self._steps(profile_of(self.tree.survey.top)):
            drafting.add(self.tree.survey.top, wish, posture)

    def wish(self, profile: Profile) -> Wish:
        """What is to become of what has this profile."""
        wish = Wish() if profile in self.tree.spared else self._known.get(profile)
        if wish is None:
            steps = self._steps(profile)
            self.entries += sum(len(one.access.entries) + len(one.access.remove) for one, _ in steps)
            single = len(steps) == 1 and steps[0][0].like is None
            wishes = [one for one, _ in steps]
            wish = Wish() if not steps else wishes[0] if single else wish_between(profile.posture, steps[-1][1], wishes)
            self._known[profile] = wish
            self.wishes |= dict.fromkeys(one for one, _ in steps) if len(self.wishes) < _EXAMPLES else {}
        return wish

    def _steps(self, profile: Profile) -> list[tuple[Wish, Posture]]:
        """The wishes, one after the other, and what comes of each."""
        found = profile.at()
        steps: list[tuple[Wish, Posture]] = []
        for goal in self.tree.goals:
            want = goal.asks(profile) | (EXECUTE if self.preference.top else 0)
            if not want:
                continue
            now = found._replace(posture=steps[-1][1] if steps else profile.posture)
            steps += self._one(Need(now, goal.who, want, goal.gives, want if self.preference.top else goal.part))
            if self.terms.and_new and profile.posture.directory:
                now = found._replace(posture=steps[-1][1] if steps else profile.posture)
                new = for_new(now, goal, ROOT, self._makers.umask(self.tree.route, profile.posture))
                if new is not None and new.like is not None:
                    steps.append((new, new.like))
        return steps

    def _one(self, need: Need) -> Iterator[tuple[Wish, Posture]]:
        """What meets one need, for the members of a group too."""
        members = self.members.get(need.who)
        posture = need.object.posture
        if not need.met(posture):
            means = self._best(need)
            if means is None:
                return
            after = outcome(need.object, means.wish, ROOT, self._umask)
            assert after is not None
            self.names |= dict.fromkeys(means.names)
            yield means.wish, after
            if members is not None and self.terms.exact and need.gives:
                changed = need.object._replace(posture=after)
                for wish, after in not_more(posture, changed, need.want, members, ROOT, self._umask):
                    yield wish, after
            posture = after
        if members is not None:
            now = need._replace(object=need.object._replace(posture=posture))
            yield from for_members(now, members, ROOT, self._umask)

    def _best(self, need: Need) -> Means | None:
        """The means that are preferred, where they do it; else those that concern the fewest others."""
        name, gid, _ = self.preference
        everyone = self.everyone
        groups = None if name == "group-bits" or need.who.kind == "group" else () if gid is None else (gid,)
        preferred = (means for means in single_means(need, everyone, groups) if self._is_preferred(means, need))
        found = next(self._doing(preferred, need), None)
        if found is None:
            others = sorted(single_means(need, everyone), key=lambda means: MEANS[means.names[0]].concern)
            found = next(self._doing(others, need), None)
        return found

    def _doing(self, means: Iterable[Means], need: Need) -> Iterator[Means]:
        """Those that may be used, and do it."""
        for one in means:
            if {*one.names} <= self._allowed:
                after = outcome(need.object, one.wish, ROOT, self._umask)
                if after is not None and need.met(after):
                    yield one

    def _is_preferred(self, means: Means, need: Need) -> bool:
        name, gid, _ = self.preference
        if gid is None:
            return means.names[0] == name
        if name == "named-group" and means.names == ("group-bits",):
            return need.object.posture.gid == gid
        given = {means.wish.gid, *(one.entry.id for one in means.wish.access.entries if one.entry.tag is _GROUP)}
        return means.names[0] == name and gid in given


_GROUP = Tag.NAMED_GROUP
