"""The search for the least change that gives somebody a right, or takes it: ways, and what each costs others.

A way is a set of changes of the object and of directories on its route, or one
membership, after which the kernel's answer is the one that is wanted. Each is made a plan
before it is told: what it costs comes from the effects of that plan, the same that any
change has.
"""

import errno
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from itertools import islice

from fiat.core.ask.effects import Effects, effects_at
from fiat.core.ask.why import RULE_WORDS
from fiat.core.change.making import make_plan
from fiat.core.change.plan import Surveys
from fiat.core.model import principals
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.posture import Object
from fiat.core.model.principals import Principal
from fiat.core.model.right import TRAVERSE
from fiat.core.model.wish import Wish
from fiat.core.rules.attributes import refused_to_everyone
from fiat.core.rules.checks import Verdict
from fiat.core.suggest.cost import Draft, Way, meant_by, way_of
from fiat.core.suggest.drafting import Drafting
from fiat.core.suggest.forecast import for_new
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.means import MEANS, Means, Need, means_for, outcome
from fiat.core.suggest.memberships import (
    effects_of_membership,
    members_of,
    membership_ways,
    not_more,
)
from fiat.core.suggest.needs import BY_OWNER, ROOT, ask, impossible, needs_of, refused_steps
from fiat.core.text import visible
from fiat.core.tree.reading import Walked, survey_at
from fiat.core.tree.walk import Extent, walk

_MOST_COMBINED = 24
"""So many combinations of means on one or two objects are looked at, the least costly of each kind first."""

_FEW, _MOST_ON_MANY = 2, 8
"""With more than so few objects, so many of them."""

_OF_A_KIND = 2
"""So many of these at least may be by the same means on the same objects."""

_KEPT = 64
"""So many combinations for the first objects of a route are gone on with."""

_FEW_GROUPS = 16
"""With so many groups, an object is thought of as given to each of them; else to those that have to do with it."""

First = Callable[[Sequence[tuple[str, Wish]]], None]
"""Is told of the entry way, by its wishes by path, before what lies below is read to count what the ways cost."""


def combined(choices: Sequence[Sequence[Means]]) -> Iterator[tuple[Means, ...]]:
    """One means for each object: the least costly to others on all of them first, the same on all where that is equal.

    First the best; then each kind of means wherever it can be, and the best elsewhere; then the others. On a long route
    only the best combinations for its first part are gone on with.
    """
    found: list[tuple[Means, ...]] = [()]
    for means in choices:
        found = _of_each_kind(sorted(((*some, one) for some in found for one in means), key=_local))[:_KEPT]
    kinds = list(dict.fromkeys(one.names for means in choices for one in means))
    through = [
        tuple(
            next((one for one in means if one.names == names), best)
            for means, best in zip(choices, found[0], strict=True)
        )
        for names in kinds
    ]
    through = list(dict.fromkeys((found[0], *sorted(through, key=_local))))
    yield from through
    yield from (some for some in found if some not in through)


def _local(some: tuple[Means, ...]) -> tuple[list[int], int]:
    """What means on several objects do to others there, and of how many sorts they are."""
    return (
        [sum(column) for column in zip(*(one.local for one in some), strict=True)],
        len({name for one in some for name in one.names}),
    )


def _of_each_kind(combinations: list[tuple[Means, ...]]) -> list[tuple[Means, ...]]:
    """The first of each kind; more of each where there are few kinds."""
    kinds = Counter(tuple(one.names for one in some) for some in combinations)
    most = max(_OF_A_KIND, _MOST_COMBINED // max(len(kinds), 1))
    taken: Counter[tuple[tuple[str, ...], ...]] = Counter()
    found = []
    for some in combinations:
        kind = tuple(one.names for one in some)
        taken[kind] += 1
        if taken[kind] <= most:
            found.append(some)
    return found


class Searching:
    """Looks for ways to goals for single paths; what lies under changed directories is read once for all of them."""

    def __init__(
        self,
        host: Host,
        goals: Sequence[Goal],
        terms: Terms,
        walked: Walked,
        progress: Progress = no_progress,
        first: "First | None" = None,
    ) -> None:
        self.host = host
        self.goals = goals
        self.terms = terms
        self.walked = walked
        self.progress = progress
        self.first = first
        self.surveys: Surveys = {}
        self.everyone = principals.of_accounts(host.accounts)
        self.fixed: tuple[str, str] | None = None

    def why_none(self) -> str:
        """Why there is no way."""
        if self.fixed:
            return f"{visible(self.fixed[0])} cannot be changed so, not even by root: {self.fixed[1]}"
        return f"no change of a mode, a list, an owner or a membership on the way does it{self.terms.by_words}"

    def ways(self) -> Iterator[Way]:
        """Each way: for one goal by every combination of means, for several by each means as far as it goes."""
        drafts = self._for_one(self.goals[0]) if len(self.goals) == 1 else self._for_all()
        for names, drafting, latent in drafts:
            way = self._way(names, drafting, latent)
            if way is not None:
                yield way
        if "membership" in self.terms.by:
            yield from self._memberships()

    # --- one goal ---

    def _for_one(self, goal: Goal) -> Iterator[tuple[tuple[str, ...], Drafting, int]]:
        needs = self._noted(self._needs_of(goal))
        choices = [self._choices(need) for need in needs]
        if not all(choices):
            return
        most = _MOST_COMBINED if len(choices) <= _FEW else _MOST_ON_MANY
        to_own: list[Object | None] = [*self._to_own(goal, ask(self.host, goal))]
        for found in to_own or [None]:
            for chosen in islice(combined(choices), most):
                drafting = Drafting(self.host, ROOT, self.walked)
                owned = [] if found is None else self._own(drafting, goal, found)
                if owned is None:
                    continue
                if all(self._add(drafting, need, means) for need, means in zip(needs, chosen, strict=True)):
                    names = tuple(dict.fromkeys(name for means in (*owned, *chosen) for name in means.names))
                    yield names, drafting, sum(sum(means.local[1:]) for means in (*owned, *chosen))

    def _to_own(self, goal: Goal, verdict: Verdict) -> list[Object]:
        """The objects of which one is to have another owner, where it is owners who have the right."""
        if "owner" not in self.terms.by:
            return []
        if not goal.gives:
            end = walk(self.host, goal.path).end
            return [end] if end is not None and goal.right.by_owner else []
        found = []
        for step in refused_steps(verdict):
            if step.rule in BY_OWNER and step.object is not None:
                named = walk(self.host, goal.path, follow=False).end if step.rule == "sticky" else None
                found += [one for one in (named, step.object) if one is not None]
        return found

    def _own(self, drafting: Drafting, goal: Goal, found: Object) -> list[Means] | None:
        """Have an object owned by who shall have the right, or by root where they shall not; None if that is how it
        is, or cannot be."""
        uid = goal.who.uid if goal.gives else 0
        wish = Wish(uid=uid)
        posture = outcome(found, wish, ROOT, self.host.settings.umask)
        if posture is None or uid == found.posture.uid:
            return None
        drafting.add(found, wish, posture)
        return [Means(("owner",), wish, (1, 0, 1))]

    def _noted(self, needs: Iterator[Need]) -> list[Need]:
        """The needs; it is noted where one is of something that cannot be changed."""
        found = list(needs)
        for need in found:
            _, rule = refused_to_everyone(need.object.posture, need.object.mount)
            if rule:
                self.fixed = need.object.path, RULE_WORDS[rule]
        return found

    def _choices(self, need: Need) -> list[Means]:
        found = means_for(need, self.everyone, self._groups(need), ROOT, self.host.settings.umask)
        return [means for means in found if {*means.names} <= {*self.terms.by}]

    def _groups(self, need: Need) -> set[int]:
        """The groups that an object may be given: those of who it is about and of its owner; or all, if few."""
        accounts = self.host.accounts
        if len(accounts.groups) <= _FEW_GROUPS:
            return {group.gid for group in accounts.groups}
        owner = accounts.user_numbered(need.object.posture.uid)
        return {*need.who.gids, *(accounts.gids_of(owner) if owner is not None else ())}

    def _add(self, drafting: Drafting, need: Need, means: Means) -> bool:
        """Have ``need`` met by these means; with entries for members who would have more, where that is not meant."""
        umask = self.host.settings.umask
        posture = outcome(need.object, means.wish, ROOT, umask)
        if posture is None:
            return False
        drafting.add(need.object, means.wish, posture)
        if need.who.kind == "group" and self.terms.exact and need.gives:
            changed = need.object._replace(posture=posture)
            members = members_of(need.who, self.host.accounts)
            for wish, after in not_more(need.object.posture, changed, need.want, members, ROOT, umask):
                drafting.add(changed, wish, after)
        return True

    # --- several goals ---

    def _for_all(self) -> Iterator[tuple[tuple[str, ...], Drafting, int]]:
        """One goal after the other, by what costs least, and by each means wherever it can be."""
        known = set()
        for prefer in ("", *(name for name in self.terms.by if MEANS[name].in_posture)):
            drafting = Drafting(self.host, ROOT, self.walked)
            chosen: list[Means] = []
            for goal in self.goals:
                more = Searching(drafting.then, [goal], self.terms, self.walked)._alone(drafting, goal, prefer)
                if more is None:
                    break
                chosen += more
            else:
                if drafting.outcomes not in known:
                    known.add(drafting.outcomes)
                    names = tuple(dict.fromkeys(name for means in chosen for name in means.names))
                    yield names, drafting, sum(sum(means.local[1:]) for means in chosen)

    def _alone(self, drafting: Drafting, goal: Goal, prefer: str = "") -> list[Means] | None:
        """Add to ``drafting`` what leads to one goal, by the means ``prefer`` wherever it can be; None if nothing
        does."""
        verdict = ask(self.host, goal)
        if verdict.allowed is goal.gives:
            return []
        if impossible(goal, verdict):
            return None
        chosen: list[Means] = []
        for found in self._to_own(goal, verdict)[:1]:
            chosen += self._own(drafting, goal, found) or []
        for need in self._noted(needs_of(goal, verdict)):
            choices = self._choices(need)
            best = next((one for one in choices if one.names == (prefer,)), choices[0] if choices else None)
            if best is None or not self._add(drafting, need, best):
                return None
            chosen.append(best)
        return chosen if ask(drafting.then, goal).allowed is goal.gives else None

    def open_route(self, drafting: Drafting, who: Principal, path: str, prefer: str) -> list[str] | None:
        """Have ``who`` get as far as ``path``; the means that it took, None where that cannot be."""
        names: list[str] = []
        goal = Goal(who, TRAVERSE, path, True)
        for step in refused_steps(ask(drafting.then, goal)):
            if step.object is None or step.path == path:
                break
            if step.reason is None:
                return None
            (need,) = self._noted(iter([Need(step.object, who, step.want, True)]))
            choices = self._choices(need)
            best = next((one for one in choices if one.names == (prefer,)), choices[0] if choices else None)
            if best is None or not self._add(drafting, need, best):
                return None
            names += best.names
        return names

    # --- from a draft to a way ---

    def _way(self, names: tuple[str, ...], drafting: Drafting, latent: int) -> Way | None:
        """The way that was drafted, if it really leads to the goals."""
        for goal in self.goals:
            if goal.who.kind == "group":
                theirs = self._for_members(drafting, goal)
                if theirs is None:
                    return None
                names = names or theirs
        if self.terms.and_new:
            self._for_new(drafting)
        if any(ask(drafting.then, goal).allowed is not goal.gives for goal in self.goals):
            return None
        if self.first is not None and all(MEANS[name].own for name in names):
            self.first(drafting.steps)
            self.first = None
        made = make_plan(
            self.host,
            drafting.targets(),
            progress=self.progress,
            surveys=self.surveys,
            actor=ROOT,
            most=self.terms.most,
        )
        refused = next((item for item in made.refused()), None)
        if refused is not None and refused.change.errno == errno.E2BIG:
            acl = refused.change.steps.acl or refused.change.steps.default
            entries = 0 if acl is None else len(acl.entries)
            self.fixed = refused.path, f"its list would have {entries:,} entries, more than fit"
        if made.effects is None or refused is not None:
            return None  # not even root can
        draft = Draft(names or ("entry",), tuple(drafting.steps), None, made, drafting.entries, latent)
        return way_of(self.host, self.goals, draft, made.effects, meant_by(self.goals))

    def _for_new(self, drafting: Drafting) -> None:
        """Default lists of the directories that the goals are for, so that what is made there follows."""
        for goal in self.goals:
            end = walk(drafting.then, goal.path).end
            wish = for_new(end, goal, ROOT, self.host.settings.umask) if end is not None else None
            if end is not None and wish is not None and wish.like is not None:
                drafting.add(end, wish, wish.like)

    def _for_members(self, drafting: Drafting, goal: Goal) -> tuple[str, ...] | None:
        """Do the same for members of the group whom another class decides, each by an entry of their own; the means
        that it took, None where that cannot be."""
        own = [kind.name for kind in MEANS.values() if kind.own]
        by = (*own, *(["owner"] if goal.right.by_owner else []))
        terms = self.terms._replace(by=by, exact=False)
        names: dict[str, None] = {}
        for member in members_of(goal.who, self.host.accounts).principals:
            theirs = goal._replace(who=member)
            if ask(drafting.then, theirs).allowed is goal.gives:
                continue
            chosen = Searching(drafting.then, [theirs], terms, self.walked)._alone(drafting, theirs)
            if chosen is None:
                return None
            names |= dict.fromkeys(name for means in chosen for name in means.names)
        return tuple(names)

    # --- memberships ---

    def _memberships(self) -> Iterator[Way]:
        gives = self.goals[0].gives
        postures = [need.object.posture for goal in self.goals for need in self._needs_of(goal)]

        def holds(member: Principal) -> bool:
            return all(ask(self.host, goal, member).allowed is gives for goal in self.goals)

        yield from membership_ways(
            self.host, self.goals, postures, holds, self._effects_of_membership, meant_by(self.goals)
        )

    def _needs_of(self, goal: Goal) -> Iterator[Need]:
        verdict = ask(self.host, goal)
        return iter(()) if verdict.allowed is goal.gives else needs_of(goal, verdict)

    def _effects_of_membership(self, then: Host) -> Effects:
        """What a membership does, as far as was read for the other ways; of the paths alone where nothing was."""
        over = self.terms.cost_over
        if over is not None and (over, Extent()) not in self.surveys:
            self.surveys[over, Extent()] = survey_at(
                self.host, over, Extent(entry_limit=self.terms.most), self.progress
            )[1]
        if not self.surveys:
            return effects_at(self.host, then, self.goals[0].path)
        return effects_of_membership(self.host, then, self.surveys)


def worth_telling(ways: list[Way]) -> list[Way]:
    """The ways, the best first, without those that do more than another one, and are no better for it.

    What covers more of what is meant comes first. Of those that are about the same entries, owners and groups at the
    same paths, the best is enough.
    """
    ways = sorted(ways, key=lambda way: (sum(one.paths for one in way.short), way.cost))
    best: dict[object, Way] = {}
    for way in ways:
        best.setdefault((way.means, way.membership, way.tree and way.cost, *map(_about, way.steps)), way)
    return [
        way
        for way in best.values()
        if not any({*one.means} < {*way.means} and one.cost[:7] <= way.cost[:7] and not one.short for one in ways)
    ]


def _about(step: tuple[str, Wish]) -> tuple[object, ...]:
    """What one change is about: where, and whose entries, which owner, which group."""
    path, wish = step
    entries = {(one.entry.tag, one.entry.id) for one in wish.access.entries}
    entries |= {(entry.tag, entry.id) for entry in wish.access.remove}
    return path, wish.uid, wish.gid, frozenset(entries)
