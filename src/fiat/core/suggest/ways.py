"""The search for the least change that gives somebody a right, or takes it: ways, and what each costs others.

A way is a set of changes of the object and of directories on its route, or one
membership, after which the kernel's answer is the one that is wanted. Each is made a plan
before it is told: what it costs comes from the effects of that plan, the same that any
change has.
"""

from collections.abc import Callable, Iterator, Sequence
from itertools import islice, product

import numpy as np

from fiat.core.ask.effects import Effects, Shift, effects_at, same_people
from fiat.core.ask.treeeffects import Asking, Pair, View
from fiat.core.ask.treeeffects import effects as tree_effects
from fiat.core.ask.who import universe_of
from fiat.core.ask.why import RULE_WORDS
from fiat.core.change import plan as plans
from fiat.core.change.plan import Plan, Surveys, Target
from fiat.core.model import principals
from fiat.core.model import right as rights
from fiat.core.model.accounts import Supposed
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.identity import Identity
from fiat.core.model.mode import EXECUTE, READ, WRITE
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import BASIC, CHANGE_MODE, Right
from fiat.core.model.wish import Wish
from fiat.core.rules.access import Access
from fiat.core.rules.attributes import refused_to_everyone
from fiat.core.rules.check import Step, Verdict
from fiat.core.rules.decision import superuser
from fiat.core.suggest.means import MEANS, Means, Need, means_for, outcome
from fiat.core.text import visible
from fiat.core.tree.asif import FewPostures, HostAsIf, Supposition
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.walk import open_end, route_for, walk
from fiat.core.typed import NamedTuple
from fiat.core.words import naming

_MOST_COMBINED = 24
"""So many combinations of means on several objects are looked at, the least costly of each kind first."""

_OF_A_KIND = 2
"""So many of these may be by the same means on the same objects."""

_FEW_GROUPS = 16
"""With so many groups, an object is thought of as given to each of them; else to those that have to do with it."""

_ROOT = principals.unlisted_user(0, (0,))
"""Who carries a way out, as far as its cost is concerned: whether the one who asks may do it is another question."""

COUNTED = (*BASIC, CHANGE_MODE)
"""The rights that cost: the others go with these, or with the directory's."""


class Goal(NamedTuple):
    """``who`` shall have ``right`` at ``path`` (``gives``), or shall not."""

    who: Principal
    right: Right
    path: str
    gives: bool


class Cost(NamedTuple):
    """What a way costs, in the order in which ways are ranked.

    ``latent`` counts the rights of others that move on a changed object itself, whether or not they get there: what
    is shut away behind a directory today may be open tomorrow.

    ``against`` tells that others lose by a way that gives, or gain by one that takes. ``anyone_else``
    counts what a stranger gains; ``others`` users by rights and paths; ``groups`` bare groups that gain;
    ``own`` what who it is about gains or loses beyond the goal; then ``objects`` and ``entries``.
    """

    against: bool
    anyone_else: int
    others: int
    groups: int
    own: int
    by_membership: bool
    latent: int
    objects: int
    entries: int
    order: int


class Way(NamedTuple):
    """One way: ``steps`` are the wishes by path, in the order of the route; or a membership, which is not Fiat's to do.

    ``others`` counts what other users gain and lose, root aside, and ``whom`` names them, by the words for them.
    """

    means: tuple[str, ...]
    steps: tuple[tuple[str, Wish], ...]
    membership: tuple[str, int] | None
    plan: Plan | None
    effects: Effects
    cost: Cost
    others: tuple[int, int]
    whom: tuple[tuple[str, ...], tuple[str, ...]]
    root: int
    at_least: bool

    @property
    def gains(self) -> tuple[Shift, ...]:
        """Everyone's gains."""
        return self.effects.gains

    @property
    def losses(self) -> tuple[Shift, ...]:
        """Everyone's losses."""
        return self.effects.losses


class Found(NamedTuple):
    """The ways, the best first; ``already`` where nothing is to be done, ``why_not`` where nothing can be."""

    goal: Goal
    already: bool
    why_not: str
    ways: list[Way]
    verdict: Verdict


def search(
    host: Host,
    goal: Goal,
    *,
    by: Sequence[str] = (),
    spare: Sequence[Principal] = (),
    progress: Progress = no_progress,
) -> Found:
    """Every way to ``goal`` by the means ``by`` (all, if empty), without a gain or a loss for who is to ``spare``."""
    verdict = _ask(host, goal, goal.who)
    if verdict.allowed is goal.gives:
        return Found(goal, True, "", [], verdict)
    why_not = _impossible(host, goal, verdict)
    if why_not:
        return Found(goal, False, why_not, [], verdict)
    searching = _Searching(host, goal, tuple(by) or tuple(MEANS), progress)
    found = list(searching.ways(verdict))
    ways = [way for way in found if not _touches(way, spare)]
    if found and not ways:
        return Found(goal, False, "each way would move something for who is to be spared", [], verdict)
    ways = _worth_telling(sorted(ways, key=lambda way: way.cost))
    if not ways:
        return Found(goal, False, searching.why_none(), [], verdict)
    return Found(goal, False, "", ways, verdict)


def _worth_telling(ways: list[Way]) -> list[Way]:
    """The ways without those that do more than another one, and are no better for it."""
    return [
        way for way in ways if not any({*one.means} < {*way.means} and one.cost[:7] <= way.cost[:7] for one in ways)
    ]


def _ask(host: Host, goal: Goal, who: Principal) -> Verdict:
    route = route_for(host, goal.path, goal.right)
    return Access(Universe([who]), host.settings).verdict(route, goal.right, 0)


def _impossible(host: Host, goal: Goal, verdict: Verdict) -> str:
    """Why nothing of a posture can change the answer; empty where something might."""
    if goal.gives:
        for step in _refused(verdict):
            if step.reason is None:
                return _flat(step)
            if step.runs_for and step.path != step.runs_for:  # which others are run with as well
                who = naming.principal(goal.who)
                return f"{visible(step.runs_for)} is run with {visible(step.path)}, which {who} may not {step.needs}"
        return ""
    if superuser(goal.who):
        return f"{naming.principal(goal.who)} is a superuser: no mode and no list keeps out who may change them"
    if goal.right not in _DECIDED:
        return f"{goal.right} goes with owning it, or with being root: only another owner takes it"
    return ""


def _flat(step: Step) -> str:
    return f"at {visible(step.path)} it is no mode and no list that refuses: {RULE_WORDS.get(step.rule, step.rule)}"


def _refused(verdict: Verdict) -> list[Step]:
    return [step for step in (*verdict.steps, *verdict.beyond) if not step.allowed]


_DECIDED: dict[Right, int] = {
    rights.READ: READ,
    rights.LIST: READ,
    rights.WRITE: WRITE,
    rights.APPEND: WRITE,
    rights.EXECUTE: EXECUTE,
    rights.TRAVERSE: EXECUTE,
    rights.CREATE: WRITE,
    rights.DELETE: WRITE,
    rights.RENAME: WRITE,
}
"""The permission that is taken where a right is to be taken."""


class _Draft:
    """The changes of a way, one after the other, and the host as it would be then."""

    def __init__(self, host: Host) -> None:
        self._host = host
        self._postures: dict[Identity, Posture] = {}
        self._last: dict[str, Posture] = {}
        self.steps: list[tuple[str, Wish]] = []
        self.then: Host = host

    def add(self, found: Object, wish: Wish, posture: Posture) -> None:
        """One more change, after which the object has this posture."""
        self.steps.append((found.path, wish))
        self._postures[found.status.identity] = posture
        self._last[found.path] = posture
        self.then = HostAsIf(self._host, Supposition(FewPostures(self._postures)))

    @property
    def entries(self) -> int:
        """How many entries of lists are given or taken."""
        return sum(len(wish.access.entries) + len(wish.access.remove) for _, wish in self.steps)

    def targets(self) -> list[Target]:
        """What a plan changes: each object once, whatever the number of its changes."""
        wishes: dict[str, Wish] = {}
        for path, wish in self.steps:
            wishes[path] = Wish(like=self._last[path]) if path in wishes else wish
        return [_target(self._host, path, wish) for path, wish in wishes.items()]


def _target(host: Host, path: str, wish: Wish) -> Target:
    route, node = open_end(host, path, follow=False)
    assert node is not None
    try:
        survey = survey_of_one(node.look(exact=True))
    finally:
        node.close()
    always: Callable[[Posture], Wish] = lambda _: wish  # noqa: E731
    return Target(path, route, survey, np.ones(1, np.bool_), False, always)


class _Searching:
    """Looks for ways; what lies under changed directories is read once for all of them."""

    def __init__(self, host: Host, goal: Goal, by: tuple[str, ...], progress: Progress) -> None:
        self.host = host
        self.goal = goal
        self.by = by
        self.progress = progress
        self.actor = _ROOT
        self.surveys: Surveys = {}
        self.everyone = principals.of_accounts(host.accounts)
        self.fixed: tuple[str, str] | None = None

    def why_none(self) -> str:
        """Why there is no way."""
        if self.fixed:
            return f"{visible(self.fixed[0])} cannot be changed, not even by root: {self.fixed[1]}"
        means = "" if self.by == tuple(MEANS) else f" by {', '.join(self.by)}"
        return f"no change of a mode, a list, an owner or a membership on the way does it{means}"

    def ways(self, verdict: Verdict) -> Iterator[Way]:
        needs = list(self._needs(verdict))
        for need in needs:
            _, rule = refused_to_everyone(need.object.posture, need.object.mount)
            if rule:
                self.fixed = need.object.path, RULE_WORDS[rule]
        choices = [self._choices(need) for need in needs]
        if all(choices):
            for chosen in islice(self._combined(choices), _MOST_COMBINED):
                way = self._way(needs, chosen)
                if way is not None:
                    yield way
        if "membership" in self.by:
            yield from self._memberships(needs)

    def _needs(self, verdict: Verdict) -> Iterator[Need]:
        """What is needed of each object; of those that refuse, or of the one that decides what is to be taken."""
        goal = self.goal
        if not goal.gives:
            part = _DECIDED[goal.right]
            deciding = [
                step
                for step in verdict.steps
                if step.reason is not None and step.want & part and step.object and not step.runs_for
            ]
            step = deciding[-1]  # what comes before is the way there, what comes after is what runs it
            assert step.object is not None
            same = [one.want for one in deciding if one.path == step.path]
            yield Need(step.object, goal.who, max(same), False, part)
            return
        wants: dict[str, tuple[Object, int]] = {}
        for step in _refused(verdict):
            if step.object is not None and step.reason is not None:
                known = wants.get(step.path, (step.object, 0))
                wants[step.path] = step.object, known[1] | step.want
        for found, want in wants.values():
            yield Need(found, goal.who, want, True)

    def _choices(self, need: Need) -> list[Means]:
        found = means_for(need, self.everyone, self._groups(need), self.actor, self.host.settings.umask)
        return [means for means in found if {*means.names} <= {*self.by}]

    def _groups(self, need: Need) -> set[int]:
        """The groups that an object may be given: those of who it is about and of its owner; or all, if few."""
        accounts = self.host.accounts
        if len(accounts.groups) <= _FEW_GROUPS:
            return {group.gid for group in accounts.groups}
        owner = accounts.user_numbered(need.object.posture.uid)
        return {*need.who.gids, *(accounts.gids_of(owner) if owner is not None else ())}

    @staticmethod
    def _combined(choices: list[list[Means]]) -> Iterator[tuple[Means, ...]]:
        """One means for each object: the least costly to others on all of them first, the same on all where that is
        equal."""
        combined = sorted(
            product(*choices),
            key=lambda some: (
                [sum(column) for column in zip(*(one.local for one in some), strict=True)],
                len({name for one in some for name in one.names}),
            ),
        )
        kinds: dict[tuple[object, ...], int] = {}
        for some in combined:
            kind = tuple(one.names for one in some)
            kinds[kind] = kinds.get(kind, 0) + 1
            if kinds[kind] <= _OF_A_KIND:
                yield some

    def _way(self, needs: list[Need], chosen: tuple[Means, ...]) -> Way | None:
        """The way with these means, if it really leads to the goal."""
        draft = _Draft(self.host)
        for need, means in zip(needs, chosen, strict=True):
            posture = outcome(need.object, means.wish, self.actor, self.host.settings.umask)
            if posture is None:
                return None
            draft.add(need.object, means.wish, posture)
        if _ask(draft.then, self.goal, self.goal.who).allowed is not self.goal.gives:
            return None
        if self.goal.who.kind == "group" and not self._for_members(draft):
            return None
        made = plans.make(self.host, draft.targets(), progress=self.progress, surveys=self.surveys, actor=_ROOT)
        if made.effects is None or any(planned.change.errno for planned in made.changes):
            return None  # not even root can
        names = tuple(dict.fromkeys(name for means in chosen for name in means.names))
        latent = sum(sum(means.local[1:]) for means in chosen)
        return self._counted(names, tuple(draft.steps), None, made, made.effects, draft.entries, latent)

    def _for_members(self, draft: "_Draft") -> bool:
        """Do the same for members of the group whom another class decides, each by an entry of their own."""
        (gid,) = self.goal.who.gids
        accounts = self.host.accounts
        for account in dict.fromkeys((*accounts.primary_members(gid), *accounts.listed_members(gid))):
            member = principals.user(account, accounts.gids_of(account))
            goal = self.goal._replace(who=member)
            if superuser(member) or _ask(draft.then, goal, member).allowed is self.goal.gives:
                continue
            found = _Searching(draft.then, goal, ("entry", "owner-bits"), no_progress)
            if not found.alone(draft):
                return False
        return True

    def alone(self, draft: "_Draft") -> bool:
        """Add to ``draft`` what turns the answer for this one; whether that can be done."""
        for need in self._needs(_ask(self.host, self.goal, self.goal.who)):
            choices = self._choices(need)
            posture = outcome(need.object, choices[0].wish, self.actor, self.host.settings.umask) if choices else None
            if posture is None:
                return False
            draft.add(need.object, choices[0].wish, posture)
        return _ask(draft.then, self.goal, self.goal.who).allowed is self.goal.gives

    def _memberships(self, needs: list[Need]) -> Iterator[Way]:
        """Joining a group that is allowed it, or leaving the one by which it was; nothing is changed by Fiat."""
        who, accounts = self.goal.who, self.host.accounts
        account = accounts.user_numbered(who.uid) if who.uid is not None else None
        if who.kind != "user" or account is None:
            return
        gids = {gid for need in needs for gid in need.object.posture.owners()[1]}
        gids = gids - who.gids if self.goal.gives else gids & who.gids - {account.gid}
        for gid in sorted(gids):
            change = [(account.name, gid)]
            supposed = Supposed(accounts, change) if self.goal.gives else Supposed(accounts, (), change)
            then = HostAsIf(self.host, Supposition(accounts=supposed))
            member = who._replace(gids=frozenset(supposed.gids_of(account)))
            if _ask(then, self.goal, member).allowed is not self.goal.gives:
                continue
            found = self._effects_of_membership(then)
            yield self._counted(("membership",), (), (account.name, gid), None, found, 0, 0, at_least=True)

    def _effects_of_membership(self, then: Host) -> Effects:
        """What a membership does, as far as was read for the other ways; of the path alone where nothing was."""
        if not self.surveys:
            return effects_at(self.host, then, self.goal.path)
        views = [View(walk(self.host, path, follow=False), survey) for (path, _), survey in self.surveys.items()]
        profiles = [view.survey.profiles for view in views]
        postures = [found.posture for view in views for found in view.route.objects]
        one, other = (universe_of(host.accounts, postures, profiles=profiles) for host in (self.host, then))
        asking = Asking(self.host, then, same_people(one, other))
        return tree_effects(asking, [Pair(view, view) for view in views])

    # --- cost ---

    def _counted(
        self,
        means: tuple[str, ...],
        steps: tuple[tuple[str, Wish], ...],
        membership: tuple[str, int] | None,
        made: Plan | None,
        effects: Effects,
        entries: int,
        latent: int,
        *,
        at_least: bool = False,
    ) -> Way:
        (gained, gaining), (lost, losing) = self._others(effects.gains), self._others(effects.losses)
        strangers = 0 if self.goal.who.kind == "anyone-else" else _paths(effects.gains, "anyone-else")
        groups = {
            shift.principal.gids for shift in (*effects.gains, *effects.losses) if shift.principal.kind == "group"
        }
        groups -= {self.goal.who.gids} if self.goal.who.kind == "group" else set()
        own = self._own(effects)
        order = min(list(MEANS).index(name) for name in means)
        cost = Cost(
            bool(lost if self.goal.gives else gained),
            strangers,
            gained + lost,
            len(groups),
            own,
            membership is not None,
            latent,
            len(steps),
            entries,
            order,
        )
        root = sum(shift.paths for shift in (*effects.gains, *effects.losses) if superuser(shift.principal))
        partly = at_least or effects.at_least
        return Way(means, steps, membership, made, effects, cost, (gained, lost), (gaining, losing), root, partly)

    def _others(self, shifts: Sequence[Shift]) -> tuple[int, tuple[str, ...]]:
        """Users by rights and paths, counted by number; root, who it is about, and who it is meant for, aside."""
        seen: dict[tuple[int | None, str], int] = {}
        words: dict[str, None] = {}
        for shift in shifts:
            who = shift.principal
            if who.kind == "user" and shift.right in COUNTED and not superuser(who) and not self._meant(who):
                key = who.uid, shift.right.name
                seen[key] = max(seen.get(key, 0), shift.paths)
                words[naming.word_for(who)] = None
        return sum(seen.values()), tuple(words)

    def _meant(self, who: Principal) -> bool:
        """Whether a user is who the goal speaks of: the user, a member of the group, or one whom nothing matches."""
        goal = self.goal.who
        if goal.kind == "group":
            return bool(who.gids & goal.gids)
        if goal.kind == "anyone-else":
            return self._matches_nothing(who)
        return who.uid == goal.uid

    def _matches_nothing(self, who: Principal) -> bool:
        end = walk(self.host, self.goal.path).objects
        return not any(who.uid in one.posture.owners()[0] or who.gids & one.posture.owners()[1] for one in end[-1:])

    def _own(self, effects: Effects) -> int:
        """What who it is about gains, or loses, beyond the goal."""
        goal = self.goal
        implied = _IMPLIED.get(goal.right, ()) if goal.gives else ()
        beyond = 0
        for shift in (*effects.gains, *effects.losses):
            if shift.principal.identity == goal.who.identity and shift.right in COUNTED:
                paths = shift.paths
                if shift.right is _COUNTS_AS.get(goal.right, goal.right) or shift.right in implied:
                    paths -= 1
                beyond += max(paths, 0)
        return beyond


_COUNTS_AS: dict[Right, Right] = {rights.LIST: rights.READ, rights.APPEND: rights.WRITE, rights.CREATE: rights.WRITE}
_IMPLIED: dict[Right, tuple[Right, ...]] = {
    rights.WRITE: (rights.TRAVERSE,),
    rights.CREATE: (rights.TRAVERSE,),
    rights.EXECUTE: (rights.READ,),
}
"""What goes with a right that is given: traverse with adding names, reading a script with running it."""


def _paths(shifts: Sequence[Shift], kind: str) -> int:
    return sum(shift.paths for shift in shifts if shift.principal.kind == kind and shift.right in COUNTED)


def _touches(way: Way, spare: Sequence[Principal]) -> bool:
    """Whether any of those who are to be spared gains or loses anything."""
    identities = {who.identity for who in spare}
    return any(shift.principal.identity in identities for shift in (*way.gains, *way.losses))
