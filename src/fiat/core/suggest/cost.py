"""What a way costs: everyone else's gains and losses, counted in one order."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from fiat.core.ask.effects import Effects, Shift
from fiat.core.change.plan import Plan
from fiat.core.model.accesslist import Tag
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal
from fiat.core.model.right import COUNTED, DELETE, Right
from fiat.core.model.shown import shown
from fiat.core.model.wish import Wish
from fiat.core.rules.decision import superuser
from fiat.core.rules.difference import moves_names_of_others
from fiat.core.rules.effective import effective
from fiat.core.suggest.goal import Goal
from fiat.core.suggest.later import LaterShift, Makers
from fiat.core.suggest.means import MEANS
from fiat.core.tree.walk import walk
from fiat.core.words import naming

Meant = Mapping[tuple[tuple[object, ...], Right], int]
"""For who it is about, by identity, and each right: on how many paths it is the goal that moves it."""


class Cost(NamedTuple):
    """What a way costs, in the order in which ways are ranked.

    ``latent`` counts the rights of others that move on a changed object itself, whether or not they get there: what
    is shut away behind a directory today may be open tomorrow.

    ``against`` tells that others lose by a way that gives, or gain by one that takes. ``anyone_else``
    counts what a stranger gains; ``others`` users by rights and paths; ``groups`` bare groups that gain;
    ``by_owner`` tells that somebody comes to own something, with all that an owner may do later;
    ``own`` what who it is about gains or loses beyond the goal; then ``objects`` and ``entries``.
    """

    against: bool
    anyone_else: int
    others: int
    groups: int
    by_owner: bool
    own: int
    by_membership: bool
    latent: int
    objects: int
    entries: int
    order: int


class Draft(NamedTuple):
    """A way before its cost is known: by which means, what is wished where, and how many objects and entries it takes.

    ``steps`` are the wishes by path, in the order of the route; ``tree`` tells that what lies below is changed too,
    by such ``wishes``.
    ``short`` says what of the goal it does not cover.
    """

    means: tuple[str, ...]
    steps: tuple[tuple[str, Wish], ...] = ()
    membership: tuple[str, int] | None = None
    plan: Plan | None = None
    entries: int = 0
    latent: int = 0
    wishes: tuple[Wish, ...] = ()
    tree: bool = False
    short: tuple[Finding, ...] = ()


class Way(NamedTuple):
    """One way: ``steps`` are the wishes by path, in the order of the route; or a membership, which is not Fiat's to do.

    ``others`` counts what other users gain and lose, root aside, and ``whom`` names them, by the words for them.
    ``members`` are users, by number, for whom the owner's letters or an entry of their own are changed because what is
    meant for their group would not reach them. ``later`` is what others gain and lose on what is made there later.
    ``wishes`` are those of the steps and such as are carried out in trees. ``tree`` tells that everything below is
    changed too, and ``short`` says what of the goal is not covered.
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
    wishes: tuple[Wish, ...] = ()
    tree: bool = False
    short: tuple[Finding, ...] = ()
    members: tuple[int, ...] = ()
    later: LaterShift = LaterShift()

    def __str__(self) -> str:
        return shown(self, repr)

    @property
    def gains(self) -> tuple[Shift, ...]:
        """Who gains what by this way, everyone counted."""
        return self.effects.gains

    @property
    def for_new(self) -> bool:
        """Whether it changes default lists, so that what is made later follows."""
        changes = () if self.plan is None else (planned.change for planned in self.plan.changes)
        return any(change.before.default != change.after.default for change in changes)

    @property
    def losses(self) -> tuple[Shift, ...]:
        """Who loses what by this way, everyone counted."""
        return self.effects.losses


def way_of(
    host: Host,
    goals: Sequence[Goal],
    draft: Draft,
    effects: Effects,
    meant: Meant,
    makers: Makers | None = None,
    *,
    at_least: bool = False,
) -> Way:
    """The way with what it costs, as its effects have it, and by what ``makers`` make later."""
    counting = _Counting(host, goals, _counted(draft.plan))
    gains, losses = effects.gains, effects.losses
    (gained, gaining), (lost, losing) = counting.others(gains), counting.others(losses)
    strangers = 0 if any(goal.who.kind == "anyone-else" for goal in goals) else counting.strangers(gains)
    groups = {shift.principal.gids for shift in (*gains, *losses) if shift.principal.kind == "group"}
    groups -= {goal.who.gids for goal in goals if goal.who.kind == "group"}
    later = LaterShift() if draft.plan is None or makers is None else counting.later(draft.plan, makers)
    cost = Cost(
        against=bool((lost or later.lost) if goals[0].gives else (gained or later.gained)),
        anyone_else=strangers,
        others=gained + lost + later.gained + later.lost,
        groups=len(groups),
        by_owner="owner" in draft.means,
        own=counting.own((*gains, *losses), meant),
        by_membership=draft.membership is not None,
        latent=draft.latent,
        objects=len(draft.steps) if draft.plan is None else draft.plan.change_count,
        entries=draft.entries,
        order=min(list(MEANS).index(name) for name in draft.means),
    )
    root = sum(shift.paths for shift in (*gains, *losses) if superuser(shift.principal))
    return Way(
        draft.means,
        draft.steps,
        draft.membership,
        draft.plan,
        effects,
        cost,
        (gained, lost),
        (gaining, losing),
        root,
        at_least or effects.at_least,
        (*(wish for _, wish in draft.steps), *draft.wishes),
        draft.tree,
        draft.short,
        _own_classes(draft.plan) if draft.plan is not None and any(goal.who.kind == "group" for goal in goals) else (),
        later,
    )


def _counted(plan: Plan | None) -> Sequence[Right]:
    """The rights that count; delete among them where a sticky directory gets another owner, who may remove any name."""
    changes = () if plan is None else (planned.change for planned in plan.changes)
    return (*COUNTED, DELETE) if any(moves_names_of_others(one.before, one.after) for one in changes) else COUNTED


def _own_classes(plan: Plan) -> tuple[int, ...]:
    """The users for whom the owner's letters, or an entry of their own, come to give something else."""
    found: dict[int, None] = {}
    for planned in plan.changes:
        before, after = planned.change.before, planned.change.after
        if (before.mode ^ after.mode) & 0o700:
            found[after.uid] = None
        had, has = _of_users(before), _of_users(after)
        found |= dict.fromkeys(uid for uid, given in has.items() if given != had.get(uid))
    return tuple(found)


def _of_users(posture: Posture) -> dict[int, int]:
    """What the named users of a list are given by their entries."""
    acl = posture.acl
    if acl is None:
        return {}
    named = (entry for entry in acl.entries if entry.tag is Tag.NAMED_USER and entry.id is not None)
    return {entry.id or 0: effective(entry, acl.mask) for entry in named}


def meant_by(goals: Sequence[Goal]) -> dict[tuple[tuple[object, ...], Right], int]:
    """What goals for single paths move of themselves; of trees it is counted, by what a plan does in them."""
    found: dict[tuple[tuple[object, ...], Right], int] = {}
    for goal in (one for one in goals if not one.below):
        for right in {goal.right.counts_as, *(goal.right.implies if goal.gives else ())}:
            key = goal.who.identity, right
            found[key] = found.get(key, 0) + 1
    return found


class _Counting:
    """Counts what others, and who the goals are about, gain and lose."""

    def __init__(self, host: Host, goals: Sequence[Goal], counted: Sequence[Right]) -> None:
        self.host = host
        self.counted = counted
        self.about = list(dict.fromkeys((goal.who, goal.path) for goal in goals))
        self._users = {who.identity for who, _ in self.about if who.uid is not None}
        self._gids = frozenset(gid for who, _ in self.about if who.kind == "group" for gid in who.gids)
        self._known: dict[Principal, bool] = {}

    def others(self, shifts: Sequence[Shift]) -> tuple[int, tuple[str, ...]]:
        """Users by rights and paths, counted by number; root, who it is about, and who it is meant for, aside."""
        seen: dict[tuple[int | None, str], int] = {}
        words: dict[str, None] = {}
        for shift in shifts:
            who = shift.principal
            if who.kind == "user" and shift.right in self.counted and not superuser(who) and not self._meant(who):
                key = who.uid, shift.right.name
                seen[key] = max(seen.get(key, 0), shift.paths)
                words[naming.word_for(who)] = None
        return sum(seen.values()), tuple(words)

    def later(self, plan: Plan, makers: Makers) -> LaterShift:
        """What others gain and lose on what is made later, where default lists change."""
        if not any(one.change.before.default != one.change.after.default for one in plan.changes):
            return LaterShift()
        return makers.shifts(plan, lambda who: not superuser(who) and not self._meant(who))

    def strangers(self, shifts: Sequence[Shift]) -> int:
        """Rights by paths of anyone else."""
        moved = (one for one in shifts if one.principal.kind == "anyone-else" and one.right in self.counted)
        return sum(shift.paths for shift in moved)

    def _meant(self, who: Principal) -> bool:
        """Whether a user is whom a goal speaks of: the user, a member of the group, or one whom nothing matches."""
        known = self._known.get(who)
        if known is None:
            known = self._known[who] = (
                who.identity in self._users
                or bool(who.gids & self._gids)
                or any(one.kind == "anyone-else" and self._matches_nothing(who, path) for one, path in self.about)
            )
        return known

    def _matches_nothing(self, who: Principal, path: str) -> bool:
        end = walk(self.host, path).objects
        return not any(who.uid in one.posture.owners()[0] or who.gids & one.posture.owners()[1] for one in end[-1:])

    def own(self, shifts: Sequence[Shift], meant: Meant) -> int:
        """What those whom it is about, or members of a group that it is about, gain or lose beyond the goals."""
        identities = {who.identity for who, _ in self.about}
        found = 0
        for shift in shifts:
            who, right = shift.principal, shift.right
            if right in self.counted and who.identity in identities:
                found += max(shift.paths - meant.get((who.identity, right), 0), 0)
            elif right in self.counted and who.kind == "user" and who.gids & self._gids and not superuser(who):
                groups = (one for one, _ in self.about if one.kind == "group" and one.gids & who.gids)
                found += max(shift.paths - max(meant.get((one.identity, right), 0) for one in groups), 0)
        return found
