"""Mending: one change for each object, after which the expectations hold that do not.

Each broken expectation is mended by its best way, as if what was before it had been done: what is stated is
set; who has a right that they shall not have is barred, and who has not what they shall have is let. All are
asked again at the end.
"""

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np

from fiat.core.ask.why import RULE_WORDS
from fiat.core.audit.replacing import without
from fiat.core.change.planned import Items
from fiat.core.change.steps import change, steps_towards, wanted
from fiat.core.change.target import Target, target_of, targets_in
from fiat.core.errors import PathError
from fiat.core.expect.expectation import Expectation, StatedPosture
from fiat.core.expect.holding import Counterexample, Holding, arranged, check_expectation
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.host import Host
from fiat.core.model.mode import octal
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Identity, Kind, Object, Posture
from fiat.core.model.right import Right
from fiat.core.model.route import Route, lies_under
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.rules.attributes import refused_to_everyone
from fiat.core.rules.difference import PostureAnswers, diff
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.search import search
from fiat.core.text import visible
from fiat.core.tree.asif import FewPostures, HostAsIf, Supposition
from fiat.core.tree.profile import Profile
from fiat.core.tree.reading import Walked, end_without_links, other_now
from fiat.core.tree.walk import walk

MOST = 200
"""For so many objects of one counterexample a way is searched for; what is alike needs one."""

_Changes = list[tuple[int, Posture]]
"""What becomes of objects on a route, by their places in it counted from its end, which is -1."""

_TRIES = 4
"""So often an expectation is asked again after it was mended."""


class Mending(NamedTuple):
    """What is to be changed (``targets``), what holds afterwards, and why others do not."""

    targets: list[Target]
    after: list[Holding]
    why_not: dict[str, str]


def mending(host: Host, found: Sequence[Holding], problem: Callable[[PathError], None]) -> Mending:
    """What mends the broken ones of ``found``, in their order."""
    mender = _Mender(host, found, problem)
    for one in found:
        if one.broken:
            mender.mend(one.expectation)
    targets = list(mender.targets())
    mender.forget_impossible()
    after = [check_expectation(mender.then, one.expectation, problem) for one in found]
    for one in after:
        why = mender.refused_for(one.expectation) if one.broken else ""
        if why:
            mender.why_not.setdefault(one.expectation.name, why)
    return Mending(targets, after, mender.why_not)


class _Mender:
    """Collects postures by what they are of, and the host as it would be with them.

    Trees are asked again after each mend, and may be others by then, or lead elsewhere. What is changed in the
    end are the objects of the first look alone (``found``).
    """

    def __init__(self, host: Host, found: Sequence[Holding], problem: Callable[[PathError], None]) -> None:
        self.host = host
        self.problem = problem
        self.then: Host = host
        self.why_not: dict[str, str] = {}
        self._impossible: dict[Identity, str] = {}
        self._audited = [audited for one in found for audited, _ in one.asked]
        self._postures: dict[Identity, Posture] = {}
        self._paths: dict[Identity, str] = {}
        self._inodes: dict[int, dict[Identity, None]] = {}
        self._found: dict[object, _Changes] = {}

    def mend(self, expectation: Expectation) -> None:
        """Mend one, as far as that is possible."""
        for _ in range(_TRIES):
            broken = check_expectation(self.then, expectation, self.problem).broken
            if not broken:
                return
            before = dict(self._postures)
            for one in broken:
                self._mend(expectation, one)
            self._found.clear()
            if self._postures == before:
                break  # nothing more can be done
        if check_expectation(self.then, expectation, self.problem).broken:
            self.why_not.setdefault(expectation.name, "no way was found that makes all of it hold")

    def _mend(self, expectation: Expectation, one: Counterexample) -> None:
        if one.right is None and one.people:
            self.why_not[expectation.name] = "who may replace something is mended by hand: fiat audit says how"
            return
        survey = one.audited.survey
        identities = list(survey.identities(one.places))
        if one.right is None:
            postures = {number: survey.profiles[number].posture for number in set(survey.profile[one.places].tolist())}
            umask = self.host.settings.umask
            goals = {
                number: _as_stated(posture, expectation.stated, one, umask) for number, posture in postures.items()
            }
            numbers = survey.profile[one.places].tolist()
            for identity, path, number in zip(identities, one.audited.paths(one.places), numbers, strict=True):
                self._suppose(path, identity, goals[number])
            self._see()
            return
        if one.allowed and one.people & one.universe.with_uid(0):
            self.why_not[expectation.name] = "root cannot be barred: name root among those who may"
            return
        searched = 0
        for identity, path in zip(identities, one.audited.paths(one.places), strict=True):
            if searched == MOST:
                self.why_not[expectation.name] = f"more than {MOST:,} ways would be needed: set their postures instead"
                break
            try:
                searched += self._mend_one(one, one.right, path, identity)
            except PathError as error:
                self.problem(error)
        self._see()

    def _mend_one(self, one: Counterexample, right: Right, path: str, identity: Identity) -> bool:
        """The best way for everyone who is concerned, at once; whether it had to be searched for.

        Who gets there is decided by the postures on the way alone: where these are the same as on the way to
        another path, what was found for that is done here as well.
        """
        route = walk(self.then, path, follow=False, interpreters=0)
        end = end_without_links(route, identity)
        way = tuple((found.posture, found.mount) for found in route.objects)
        alike = right, one.allowed, one.people, one.audited.universe, way, end.program
        changes = self._found.get(alike)
        if changes is not None:
            self._take(route, changes)
            return False
        changes = self._from_classes(one, end, right) if one.allowed and not right.by_name else None
        if changes is None:
            goals = [Goal(who, right, path, not one.allowed, False) for who in one.universe.members(one.people)]
            best = next((way for way in search(self.then, goals, Terms()).ways if way.plan is not None), None)
            items = Items() if best is None or best.plan is None else best.plan.to_write()
            places = {found.path: place - len(route.objects) for place, found in enumerate(route.objects)}
            if any(item.path not in places for item in items):
                raise other_now(path)
            changes = [(places[item.path], item.change.after) for item in items]
        self._found[alike] = changes
        self._take(route, changes)
        self._see()
        return True

    def _from_classes(self, one: Counterexample, end: Object, right: Right) -> "_Changes | None":
        """Bits and entries of whole classes, where these are enough without taking anything from anybody else."""
        permission = right.permission
        mend = without(one.universe, end.posture, one.people, permission) if permission else None
        if mend is None:
            return None
        goal = wanted(end.posture, mend.wish, self.host.actor(), self.host.settings.umask)
        answers = PostureAnswers(one.universe)
        had, has = answers.of(end.posture), answers.of(goal)
        everyone = one.universe.of_kind("user") | one.universe.of_kind("anyone-else")
        lost = diff(had, has).lost.values()
        if any(some & everyone & ~one.people for some in lost) or has[permission] & one.people:
            return None
        return [(-1, goal)]

    def _take(self, route: Route, changes: "_Changes") -> None:
        objects = route.objects
        for place, posture in changes:
            self._suppose(objects[place].path, objects[place].status.identity, posture)

    def _suppose(self, path: str, identity: Identity, posture: Posture) -> None:
        known = next((one for one in self._same_inode(identity) if one.same_as(identity)), identity)
        self._postures[known] = posture
        self._paths[known] = path
        self._inodes.setdefault(identity.inode, {})[known] = None

    def _same_inode(self, identity: Identity) -> Iterable[Identity]:
        return self._inodes.get(identity.inode, ())

    def _see(self) -> None:
        self.then = HostAsIf(self.host, Supposition(FewPostures(self._postures)))

    def targets(self) -> Iterator[Target]:
        """Each object that is to be another, with what it is to be: those of the first look alone."""
        waiting = dict(self._postures)
        tops: set[str] = set()
        for audited in sorted(self._audited, key=lambda audited: -len(audited.survey)):
            survey = audited.survey
            if survey.top.path in tops:
                continue
            tops.add(survey.top.path)
            places = np.flatnonzero(np.isin(survey.inode, np.array([one.inode for one in self._postures], np.uint64)))
            goals: dict[int, Posture] = {}
            for place, identity in zip(places.tolist(), survey.identities(places), strict=True):
                known = next((one for one in self._same_inode(identity) if one.same_as(identity)), None)
                if known is None:
                    continue
                waiting.pop(known, None)
                if self._can_become(survey.profiles[int(survey.profile[place])], known):
                    goals[place] = self._postures[known]
            if goals:
                yield targets_in(survey, audited.route, goals, with_tree=len(survey) > 1)
        walked = Walked()
        for audited in self._audited:
            walked.add(audited.route)
        for identity, goal in waiting.items():
            try:
                target = target_of(self.host, self._paths[identity], identity, goal=goal)
                walked.expect(target.survey.top)
            except PathError as error:
                self.problem(error)
                continue
            if self._can_become(target.survey.profiles[0], identity):
                yield target

    def _can_become(self, found: Profile, known: Identity) -> bool:
        """Whether the kernel lets anything of it be changed so; it is noted where not, and why."""
        actor, goal = self.host.actor(), self._postures[known]
        towards = steps_towards(found.posture, goal, actor)
        done = change(found.posture, towards, actor, found.mount, found.keeps_lists)
        if done.errno:
            rule = refused_to_everyone(found.posture, found.mount)[1]
            why = RULE_WORDS[rule] if rule else os.strerror(done.errno)
            self._impossible[known] = f"{visible(self._paths[known])} cannot be changed: {why}"
        return done.after != found.posture

    def forget_impossible(self) -> None:
        """Suppose no longer what turned out to be refused by the kernel."""
        for known in self._impossible:
            self._postures.pop(known, None)
        self._see()

    def refused_for(self, expectation: Expectation) -> str:
        """What the kernel would refuse to change in the trees of an expectation, or on the way to them; empty for
        nothing."""
        for known, why in self._impossible.items():
            path = self._paths[known]
            if any(lies_under(path, top) or lies_under(top, path) for top in expectation.paths):
                return why
        return ""


def wish_of(stated: StatedPosture, *, directory: bool) -> Wish:
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


def _as_stated(posture: Posture, stated: StatedPosture, one: Counterexample, umask: int) -> Posture:
    """What a posture is to be."""
    actor = one.audited.host.actor()
    if stated.arrangement is not None:
        owned = wanted(posture, Wish(uid=stated.uid, gid=stated.gid), actor, umask)
        posture = owned if posture.kind is Kind.SYMLINK else arranged(owned, stated, one.audited)
    return wanted(posture, wish_of(stated, directory=posture.directory), actor, umask)
