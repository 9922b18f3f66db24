"""The best way costs the least that any change of the permission asked can cost, by each means and by all of them.

For the permission asked (write and traverse together, where names are made and removed) each entry of a list is
absent, or without it, or with it, and the list is passed over or not: that is every outcome that an object can have,
at most 32 for four users and a stranger. What the best of them moves for others is the least; all other permissions
staying as they are. A second reckoning tries full postures.
"""

import itertools
import os
import random
from collections.abc import Iterator
from typing import NamedTuple

import pytest

from fiat.core.model.accesslist import Tag
from fiat.core.model.mode import EXECUTE, READ, WRITE
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal
from support.smallworlds import GIDS, UIDS, Rank, SmallWorld, best_of

WORLDS = int(os.environ.get("FIAT_JUDGE_LEAST", "150"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))

NAMES = WRITE | EXECUTE
RIGHTS = {
    ("read", "/d/f"): (EXECUTE, READ),
    ("write", "/d/f"): (EXECUTE, WRITE),
    ("append", "/d/f"): (EXECUTE, WRITE),
    ("execute", "/d/f"): (EXECUTE, EXECUTE),
    ("delete", "/d/f"): (NAMES, 0),
    ("rename", "/d/f"): (NAMES, 0),
    ("list", "/d"): (READ, 0),
    ("traverse", "/d"): (EXECUTE, 0),
    ("create", "/d"): (NAMES, 0),
}
"""What each right needs of the directory, and of the file."""

MEANS = ("entry", "owner-bits", "group-bits", "named-group", "other-bits")


class Someone(NamedTuple):
    """Who asks: a user by number with their groups; None for somebody whom nothing matches."""

    uid: int | None
    gids: frozenset[int]


class Shape(NamedTuple):
    """A posture: what each part holds; None where an entry is absent, and for the mask where there is no list."""

    uid: int
    gid: int
    owner: int
    users: dict[int, int | None]
    group: int
    groups: dict[int, int | None]
    mask: int | None
    other: int
    passed_over: bool = False

    def allows(self, who: Someone, want: int) -> bool:
        if who.uid == self.uid:
            return not want & ~self.owner
        if self.mask is not None and not self.passed_over:
            named = self.users.get(who.uid) if who.uid is not None else None
            if named is not None:
                return not want & ~(named & self.mask)
            matched = [has for gid, has in self.groups.items() if gid in who.gids and has is not None]
            matched += [self.group] if self.gid in who.gids else []
            return any(not want & ~(has & self.mask) for has in matched) if matched else not want & ~self.other
        if self.gid in who.gids:
            return self.mask is None and not want & ~self.group
        return not want & ~self.other

    def effective(self, has: int | None) -> int | None:
        """What an entry gives by way of the mask."""
        return None if has is None else has if self.mask is None else has & self.mask

    def asking(self, want: int) -> "Shape":
        """What is left of it where each part has ``want``, as 1, or has it not."""

        def has(part: int | None) -> int | None:
            return None if part is None else int(not want & ~part)

        return Shape(
            self.uid,
            self.gid,
            has(self.owner) or 0,
            {uid: has(part) for uid, part in self.users.items()},
            has(self.group) or 0,
            {gid: has(part) for gid, part in self.groups.items()},
            has(self.mask),
            has(self.other) or 0,
            self.passed_over,
        )


def shape_of(posture: Posture) -> Shape:
    owner, group, other = (posture.mode >> shift & 7 for shift in (6, 3, 0))
    if posture.acl is None or posture.acl.mask is None:
        return Shape(posture.uid, posture.gid, owner, {}, group, {}, None, other)
    named: dict[Tag, dict[int, int | None]] = {Tag.NAMED_USER: {}, Tag.NAMED_GROUP: {}}
    for entry in posture.acl.entries:
        if entry.id is not None:
            named[entry.tag][entry.id] = entry.permissions
        elif entry.tag is Tag.OWNING_GROUP:
            group = entry.permissions
    users, groups, mask = named[Tag.NAMED_USER], named[Tag.NAMED_GROUP], posture.acl.mask
    return Shape(posture.uid, posture.gid, owner, users, group, groups, mask, other, not mask)


def shapes(before: Shape, people: list[Someone], means: str, values: range, *, lists: bool) -> Iterator[Shape]:
    """Everything that ``means`` may make of it for the first of ``people``; a part can hold one of ``values``."""
    who = people[0]
    if means == "owner-bits":
        yield from (before._replace(owner=value) for value in values)
    elif means == "other-bits":
        yield from (before._replace(other=value) for value in values)
    elif means == "group-bits" and before.mask is None:
        yield from (before._replace(group=value) for value in values)
    elif lists:
        assert who.uid is not None
        inside = {one.uid for one in people if before.gid in one.gids}
        had = {uid: None if uid == who.uid else 0 if uid in inside else before.other for uid in before.users}
        users = {uid: _others(before, has, had[uid]) for uid, has in before.users.items()}
        groups = {gid: _others(before, has, None) for gid, has in before.groups.items()}
        if means == "entry":
            users[who.uid] = [None, *values]
        if means == "named-group":
            groups |= {gid: [None, *values] for gid in who.gids if gid != before.gid}
        works = 0 if before.passed_over else before.effective(before.group) or 0
        if before.passed_over:
            yield before
        for group in values if means == "group-bits" else [works]:
            for some in itertools.product(*users.values()):
                for others in itertools.product(*groups.values()):
                    yield before._replace(
                        users=dict(zip(users, some, strict=True)),
                        groups=dict(zip(groups, others, strict=True)),
                        group=group,
                        mask=values[-1],
                        passed_over=False,
                    )


def _others(before: Shape, has: int | None, had: int | None) -> list[int | None]:
    """What an entry may be that the means is not about: what it gives; or, of a list that gave nothing, absent, or of
    a user what they had."""
    if before.passed_over:
        return list(dict.fromkeys((None, had)))
    return [before.effective(has)]


Outcome = tuple[tuple[bool, ...], ...]
"""For each of some permissions, who has it."""

KINDS = (READ, WRITE, EXECUTE, NAMES)


class Bound:
    """The least that giving ``who`` a right, or taking it, can cost others in a world."""

    def __init__(self, world: SmallWorld, who: Principal, right: str, path: str, gives: bool) -> None:
        self.world, self.gives = world, gives
        self.who = Someone(who.uid, who.gids)
        others = [Someone(one.uid, one.gids) for one in world.people[1:] if one.uid != who.uid]
        self.people = [self.who, *others, Someone(None, frozenset())]
        self.wants = dict(zip(("/d", "/d/f"), RIGHTS[right, path], strict=True))
        self.shapes = {"/d": shape_of(world.folder), "/d/f": shape_of(world.file)}
        self.had = {path: self._outcome(shape, KINDS) for path, shape in self.shapes.items()}
        asked = [path for path, want in self.wants.items() if want]
        refusing = [path for path in asked if not self.shapes[path].allows(self.who, self.wants[path])]
        self.already = (not refusing) is gives
        self.objects = refusing if gives else asked[-1:]

    def _outcome(self, shape: Shape, wants: tuple[int, ...]) -> Outcome:
        return tuple(tuple(shape.allows(one, want) for one in self.people) for want in wants)

    def least(self, means: str) -> Rank | None:
        """By each choice for the permission asked; by full postures where an entry comes to decide, or no longer does,
        for others than who asks, since it does so for all permissions together."""
        apart = any(self.shapes[path].passed_over for path in self.objects) and means == "group-bits"
        return self.least_of_postures(means) if apart or means == "named-group" else self.least_of_entries(means)

    def least_of_entries(self, means: str) -> Rank | None:
        """By each choice of every entry for the permission asked alone."""
        possible = []
        for path in self.objects:
            want = self.wants[path]
            made = shapes(self.shapes[path].asking(want), self.people, means, range(2), lists=self.world.lists)
            outcomes = {self._outcome(shape, (1,))[0] for shape in made}
            assert len(outcomes) <= 32
            possible.append([self._moved(path, one) for one in outcomes if one[0] is self.gives])
        return self._best(possible)

    def least_of_postures(self, means: str) -> Rank | None:
        """By every value of every entry; where it can be had without it, nobody's right is moved the other way on an
        object that they do not reach today, which would cost nothing yet."""
        possible = []
        for path in self.objects:
            made = shapes(self.shapes[path], self.people, means, range(8), lists=self.world.lists)
            met = {
                self._outcome(shape, KINDS) for shape in made if shape.allows(self.who, self.wants[path]) is self.gives
            }
            quiet = [outcome for outcome in met if not self._against(path, outcome)]
            possible.append(quiet or list(met))
        return self._best(possible)

    def _against(self, path: str, outcome: Outcome) -> bool:
        """Whether others lose what they are given there, where something is to be given; or the other way round."""
        pairs = zip(self.had[path], outcome, strict=True)
        return any(
            had and not has if self.gives else has and not had
            for before, after in pairs
            for had, has in zip(before[1:], after[1:], strict=True)
        )

    def _best(self, possible: list[list[Outcome]]) -> Rank | None:
        chosen = (dict(zip(self.objects, some, strict=True)) for some in itertools.product(*possible))
        return min((self.rank(outcomes) for outcomes in chosen), default=None)

    def _moved(self, path: str, outcome: tuple[bool, ...]) -> Outcome:
        """The outcome for all permissions, where that for the one asked is ``outcome`` and the others stay."""
        want, after = self.wants[path], dict(zip(KINDS, self.had[path], strict=True))
        writes, enters = after[WRITE], after[EXECUTE]
        after[want] = outcome
        if path == "/d" and want == EXECUTE:
            after[NAMES] = tuple(x and w for x, w in zip(outcome, writes, strict=True))
        elif want == NAMES and self.gives:
            after[EXECUTE] = tuple(x or both for x, both in zip(enters, outcome, strict=True))
        return tuple(after[kind] for kind in KINDS)

    def rank(self, outcomes: dict[str, Outcome]) -> Rank:
        """What it costs that those have what is wanted of the objects, all else staying as it is."""
        one, other = self._rights(self.had), self._rights({**self.had, **outcomes})
        gains, losses, strangers = 0, 0, 0
        for before, then in zip(one, other, strict=True):
            strangers += then[-1] and not before[-1]
            gains += sum(has and not had for had, has in zip(before[1:-1], then[1:-1], strict=True))
            losses += sum(had and not has for had, has in zip(before[1:-1], then[1:-1], strict=True))
        return bool(losses if self.gives else gains), strangers, gains + losses

    def _rights(self, has: dict[str, Outcome]) -> list[tuple[bool, ...]]:
        """Who has each right that counts: of the directory, and of the file through it."""
        reads, _, enters, makes = has["/d"]
        owner = tuple(one.uid == self.shapes["/d/f"].uid for one in self.people)
        of_file = (*has["/d/f"][:3], owner)  # whose it is may change its mode
        return [reads, enters, makes, *(tuple(map(all, zip(enters, may, strict=True))) for may in of_file)]


def questions(choices: random.Random, world: SmallWorld) -> Iterator[tuple[Principal, str, str, bool]]:
    """Something to be asked of a world that is not so yet."""
    (right, path), gives = choices.choice(list(RIGHTS)), choices.random() < 0.5
    for who in choices.sample(world.people[1:], 2):
        bound = Bound(world, who, right, path, gives)
        if not bound.already:
            yield who, right, path, gives
            return


def compare(world: SmallWorld, bound: Bound, asked: tuple[Principal, str, str, bool], *, full: bool) -> int:
    """Hold the best way by each means against the least that can be had by it; how many could be compared."""
    who, right, path, gives = asked
    said = f"{'let' if gives else 'bar'} {who.name} {right} {path}\n{world.said()}"
    compared = 0
    for by in MEANS:
        least = bound.least_of_postures(by) if full else bound.least(by)
        best = best_of(world.ways(who, right, gives, (by,), path))
        met = best == least or (best is not None and least is not None and best < least)
        assert met, f"by {by}: {best}, where {least} can be had: {said}"
        compared += least is not None
    return compared


@pytest.mark.slow
@pytest.mark.parametrize("lists", [True, False])
def test_no_choice_of_entries_costs_less(lists: bool) -> None:
    choices = random.Random(SEED)
    compared = 0
    for _ in range(WORLDS):
        world = SmallWorld(choices, lists=lists)
        for asked in questions(choices, world):
            bound = Bound(world, *asked)
            compared += compare(world, bound, asked, full=False)
            if lists:
                assert best_of(world.ways(*asked[:2], asked[3], (), asked[2])) == (False, 0, 0), world.said()
    assert compared > WORLDS // 2


@pytest.mark.slow
def test_no_full_posture_costs_less() -> None:
    choices = random.Random(SEED)
    compared = 0
    for _ in range(max(20, WORLDS // 5)):
        world = SmallWorld(choices, lists=True, folder=0o755, uids=UIDS[:2], gids=GIDS[:2])
        for who, right, gives in itertools.product(world.people[1:], ("read", "write", "execute"), (True, False)):
            bound = Bound(world, who, right, "/d/f", gives)
            if not bound.already:
                compared += compare(world, bound, (who, right, "/d/f", gives), full=True)
    assert compared > 100
