"""Mending: one change for each object, after which the expectations hold that do not.

Each broken expectation is mended by its best way, as if what was before it had been done: what is stated is
set; who has a right that they shall not have is barred, and who has not what they shall have is let. All are
asked again at the end.
"""

from collections.abc import Callable, Sequence

import numpy as np

from fiat.core.audit.replacing import without
from fiat.core.change.plan import Goals, Plan, Target
from fiat.core.change.steps import change, steps_towards
from fiat.core.change.wanted import wanted
from fiat.core.errors import PathError
from fiat.core.expect.expectation import Expectation, Stated
from fiat.core.expect.holding import Counterexample, Holding, arranged, holding
from fiat.core.model import right as rights
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.host import Host
from fiat.core.model.identity import Identity
from fiat.core.model.kind import Kind
from fiat.core.model.mode import EXECUTE, READ, WRITE, octal, parse_change
from fiat.core.model.posture import Object, Posture
from fiat.core.model.right import Right
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.rules.decision import Decisions
from fiat.core.rules.sideeffects import after_owner, with_mode
from fiat.core.suggest.goal import Goal
from fiat.core.suggest.search import search
from fiat.core.suggest.terms import Terms
from fiat.core.tree.asif import FewPostures, HostAsIf, Supposition
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.walk import walk
from fiat.core.typed import NamedTuple

MOST = 200
"""On so many paths of one expectation a way is looked for, path by path."""

_PERMISSIONS = {rights.READ: READ, rights.WRITE: WRITE, rights.EXECUTE: EXECUTE, rights.LIST: READ}
"""What a right takes that an object decides by its classes alone."""

_TRIES = 4
"""So often an expectation is asked again after it was mended."""


class Mending(NamedTuple):
    """What is to be changed (``targets``), what holds afterwards, and why others do not."""

    targets: list[Target]
    after: list[Holding]
    why_not: dict[str, str]


def mending(host: Host, found: Sequence[Holding], problem: Callable[[PathError], None]) -> Mending:
    """What mends the broken ones of ``found``, in their order."""
    mender = _Mender(host, problem)
    for one in found:
        if not one.held:
            mender.mend(one.expectation)
    after = [holding(mender.then, one.expectation, problem) for one in found]
    return Mending(list(mender.targets()), after, mender.why_not)


class _Mender:
    """Collects postures by what they are of, and the host as it would be with them."""

    def __init__(self, host: Host, problem: Callable[[PathError], None]) -> None:
        self.host = host
        self.problem = problem
        self.then: Host = host
        self.why_not: dict[str, str] = {}
        self._postures: dict[Identity, Posture] = {}
        self._paths: dict[Identity, str] = {}

    def mend(self, expectation: Expectation) -> None:
        """Mend one, as far as that is possible."""
        for _ in range(_TRIES):
            broken = holding(self.then, expectation, self.problem).broken
            if not broken:
                return
            before = len(self._postures), hash(tuple(self._postures.values()))
            for one in broken:
                self._mend(expectation, one)
            if (len(self._postures), hash(tuple(self._postures.values()))) == before:
                break  # nothing more can be done
        if holding(self.then, expectation, self.problem).broken:
            self.why_not.setdefault(expectation.name, "no way was found that makes all of it hold")

    def _mend(self, expectation: Expectation, one: Counterexample) -> None:
        if one.right is None and one.people:
            self.why_not[expectation.name] = "who may replace something is mended by hand: fiat audit says how"
        elif one.right is None:
            for path in one.ground.paths(one.places):
                self._state(path, expectation.stated, one)
        else:
            paths = one.ground.paths(one.places)
            if len(paths) > MOST:
                self.why_not[expectation.name] = f"it is broken on more than {MOST:,} paths: set their postures instead"
                return
            for path in paths:
                self._search(expectation, one, path)

    def _state(self, path: str, stated: Stated, one: Counterexample) -> None:
        end = walk(self.then, path, follow=False, interpreters=0).end
        if end is not None:
            self._suppose(path, end.status.identity, _as_stated(end.posture, stated, one))

    def _search(self, expectation: Expectation, one: Counterexample, path: str) -> None:
        """The best way for everyone who is concerned, at once."""
        assert one.right is not None
        if one.allowed and one.people & one.universe.with_uid(0):
            self.why_not[expectation.name] = "root cannot be barred: name root among those who may"
            return
        people = list(one.universe.members(one.people))
        named = one.right.by_name and not one.right.by_object
        end = walk(self.then, path, follow=not named).end
        if end is None:
            return
        if one.allowed and not named and self._take_from_classes(one, end, one.right):
            return
        goals = [Goal(who, one.right, path if named else end.path, not one.allowed, False) for who in people]
        try:
            ways = search(self.then, goals, Terms()).ways
        except PathError as error:
            self.problem(error)
            return
        best = next((way for way in ways if way.plan is not None), None)
        if best is not None and best.plan is not None:
            self._take(best.plan)

    def _take_from_classes(self, one: Counterexample, end: Object, right: Right) -> bool:
        """Whether bits and entries of whole classes are enough, without taking anything from anybody else."""
        permission = _PERMISSIONS.get(right)
        mend = None if permission is None else without(one.universe, end.posture, one.people, permission)
        if mend is None:
            return False
        goal = wanted(end.posture, mend.wish, self.host.actor(), self.host.settings.umask)
        decisions = Decisions(one.universe)
        had, has = decisions.of(end.posture), decisions.of(goal)
        everyone = one.universe.of_kind("user") | one.universe.of_kind("anyone-else")
        lost = [had.allowed(want) & ~has.allowed(want) & everyone for want in range(1, 8)]
        if any(some & ~one.people for some in lost) or has.allowed(permission or 0) & one.people:
            return False
        self._suppose(end.path, end.status.identity, goal)
        return True

    def _take(self, plan: Plan) -> None:
        for item in plan.to_write():
            self._suppose(item.path, item.identity, item.change.after, again=False)
        self._see()

    def _suppose(self, path: str, identity: Identity, posture: Posture, *, again: bool = True) -> None:
        self._postures[identity] = posture
        self._paths[identity] = path
        if again:
            self._see()

    def _see(self) -> None:
        self.then = HostAsIf(self.host, Supposition(FewPostures(self._postures)))

    def targets(self) -> "list[Target]":
        """Each object that is to be another, with what it is to be."""
        actor = self.host.actor()
        found = []
        for identity, path in self._paths.items():
            route = walk(self.host, path, follow=False, interpreters=0)
            end, goal = route.end, self._postures[identity]
            if end is None or end.posture == goal:
                continue
            towards = steps_towards(end.posture, goal, actor)
            if change(end.posture, towards, actor, end.mount, end.keeps_lists).after == end.posture:
                continue
            survey = survey_of_one(end)
            found.append(Target(path, route, survey, np.ones(1, np.bool_), False, goals=Goals({0: goal}, frozenset())))
        return found


def wish_of(stated: Stated, *, directory: bool) -> Wish:
    """What is stated as a wish; an arrangement has none."""
    mode = stated.mode_for(directory=directory)
    default = ListWish()
    if directory and (stated.default is not None or stated.no_default):
        default = _whole(stated.default)
    return Wish(
        mode=None if mode is None else parse_change(octal(mode)),
        uid=stated.uid,
        gid=stated.gid,
        access=_whole(stated.acl) if stated.acl is not None or stated.no_acl else ListWish(),
        default=default,
    )


def _whole(acl: AccessList | None) -> ListWish:
    """A list and no other; none where that is None."""
    entries = () if acl is None else tuple(EntryWish(one) for one in acl.entries if one.tag is not Tag.MASK)
    return ListWish(entries, mask=None if acl is None else acl.mask, drop=True)


def _as_stated(posture: Posture, stated: Stated, one: Counterexample) -> Posture:
    """What a posture is to be."""
    uid = posture.uid if stated.uid is None else stated.uid
    gid = posture.gid if stated.gid is None else stated.gid
    if (uid, gid) != (posture.uid, posture.gid):
        posture = after_owner(posture, uid, gid, one.ground.host.actor())
    if posture.kind is Kind.SYMLINK:
        return posture
    if stated.arrangement is not None:
        posture = arranged(posture, stated, one.ground)
    mode = stated.mode_for(directory=posture.directory)
    if mode is not None:
        posture = posture._replace(mode=mode, acl=with_mode(posture.acl, mode) if posture.acl else None)
    if stated.no_acl:
        posture = posture._replace(acl=None)
    elif stated.acl is not None:
        mode = posture.mode & 0o7000 | stated.acl.mode()
        posture = posture._replace(mode=mode, acl=None if stated.acl.is_mode_only() else stated.acl)
    if posture.directory and (stated.default is not None or stated.no_default):
        posture = posture._replace(default=stated.default)
    return posture
