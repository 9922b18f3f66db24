"""The best way costs least: against every other change that there is, on small worlds in memory.

Where no lists are kept, that is all 512 modes with every owner and every group; where they are, an entry changes
nothing for anybody else, and nothing can cost less than that.
"""

import itertools
import os
import random
from collections.abc import Callable
from functools import partial

import pytest

from fiat.core.model.accesslist import Tag
from fiat.core.model.mode import EXECUTE, READ, WRITE
from fiat.core.model.posture import Kind, Posture
from fiat.core.model.principals import ANYONE_ELSE, Principal, Universe, bare_group
from fiat.core.rules.decision import Decision
from fiat.core.suggest import entrywishes
from support.smallworlds import GIDS, UIDS, Rank, SmallWorld, best_of

WORLDS = int(os.environ.get("FIAT_JUDGE_WAYS", "5"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
WANTS = {"read": READ, "write": WRITE, "execute": EXECUTE}


class Every:
    """Every posture that a file can have without a list, and who can do what with each."""

    def __init__(self, world: SmallWorld) -> None:
        self.universe = Universe([*world.people, ANYONE_ELSE])
        self.postures = [
            Posture(Kind.FILE, mode, uid, gid) for uid, gid, mode in itertools.product((0, *UIDS), GIDS, range(0o1000))
        ]
        self.sets = {posture: self._sets(posture) for posture in self.postures}
        self.before = world.file

    def _sets(self, posture: Posture) -> tuple[int, ...]:
        decision = Decision(posture, self.universe)
        owner = self.universe.with_uid(posture.uid) | self.universe.with_uid(0)
        return (*(decision.allowed(want) for want in (READ, WRITE, EXECUTE)), owner)

    def least(self, who: Principal, want: int, gives: bool, by: str = "") -> Rank | None:
        """The least that any of them costs after which ``who`` has, or has not, ``want``."""
        had = self.sets[self.before]
        place = self.universe.principals.index(who)
        aside = self.universe.with_uid(who.uid or 0) | self.universe.with_uid(0)
        stranger = 1 << len(self.universe.principals) - 1
        aside |= stranger
        column = (READ, WRITE, EXECUTE).index(want)
        best: Rank | None = None
        for posture, has in self.sets.items():
            if bool(has[column] >> place & 1) is not gives or not self._only(posture, by):
                continue
            if not gives and posture.uid == who.uid != self.before.uid:
                continue  # barred by being made the owner
            gained = [~one & other for one, other in zip(had, has, strict=True)]
            lost = [one & ~other for one, other in zip(had, has, strict=True)]
            gains, losses = (sum((bits & ~aside).bit_count() for bits in some) for some in (gained, lost))
            rank = bool(losses if gives else gains), sum(bool(bits & stranger) for bits in gained[:3]), gains + losses
            best = rank if best is None or rank < best else best
        return best

    def _only(self, posture: Posture, by: str) -> bool:
        """Whether nothing but what ``by`` names is other than before."""
        mask = {"owner-bits": 0o700, "group-bits": 0o070, "other-bits": 0o007, "owning-group": 0}.get(by, 0o777)
        same_bits = not (posture.mode ^ self.before.mode) & ~mask
        same_group = posture.gid == self.before.gid or by in ("", "owning-group")
        same_owner = posture.uid == self.before.uid or not by
        return same_bits and same_group and same_owner


@pytest.mark.slow
def test_no_change_costs_less_where_no_lists_are_kept() -> None:
    choices = random.Random(SEED)
    compared = 0
    for _ in range(WORLDS):
        world = SmallWorld(choices, lists=False, folder=0o755)
        every = Every(world)
        for who, (right, want), gives in itertools.product(world.people[1:], WANTS.items(), (True, False)):
            if bool(Decision(world.file, Universe([who])).allowed(want)) is gives:
                continue
            asked = f"{'let' if gives else 'bar'} {who.name} {right}: {world.file} {[p.gids for p in world.people]}"
            assert best_of(world.ways(who, right, gives)) == every.least(who, want, gives), asked
            for by in ("owner-bits", "group-bits", "other-bits"):
                assert best_of(world.ways(who, right, gives, (by,))) == every.least(who, want, gives, by), (by, asked)
            compared += 1
    assert compared > WORLDS * 5


@pytest.mark.slow
def test_no_change_costs_less_for_a_group_where_no_lists_are_kept() -> None:
    """For every member and for the group alone: all modes and groups, the owner as it is, or root where a member is to
    have less; a way is found where there is one, and costs nobody else anything where that can be."""
    choices = random.Random(SEED)
    compared = 0
    for _ in range(WORLDS * 2):
        world = SmallWorld(choices, lists=False, folder=0o755)
        everyone = Universe([*world.people, ANYONE_ELSE])
        decisions = {
            posture: Decision(posture, everyone)
            for posture in (
                world.file._replace(mode=mode, uid=uid, gid=gid)
                for uid, gid, mode in itertools.product({world.file.uid, 0}, GIDS, range(0o1000))
            )
        }
        for gid, (right, want), gives in itertools.product(GIDS, WANTS.items(), (True, False)):
            group = bare_group(gid, f"g{gid}")
            found = world.ways(group, right, gives)
            members = sum(1 << place for place, one in enumerate(everyone.principals) if one.uid and gid in one.gids)
            if found.already or not members or choices.random() < 0.7:
                continue
            least = _least_for_group(world.file, decisions, group, members, want, gives)
            asked = f"{gives} g{gid} {right}: {world.file} {[one.gids for one in world.people]}"
            best = best_of(found)
            assert (best is None) == (least is None), asked
            assert least is not True or best == (False, 0, 0), asked
            compared += 1
    assert compared > WORLDS * 2


def _least_for_group(
    before: Posture, decisions: dict[Posture, Decision], group: Principal, members: int, want: int, gives: bool
) -> bool | None:
    """Whether a change costs nobody but the members anything; None where there is no change that does it."""
    everyone = decisions[before].universe
    root = everyone.with_uid(0)
    to_root = not gives and bool(everyone.with_uid(before.uid) & members)
    found: bool | None = None
    had = [decisions[before].allowed(one) for one in (READ, WRITE, EXECUTE)]
    for posture, decision in decisions.items():
        uid = posture.uid
        if (uid != before.uid and not to_root) or decision.allowed(want) & members != (members if gives else 0):
            continue
        if bool(Decision(posture, Universe([group])).allowed(want)) is not gives:
            continue
        has = [decision.allowed(one) for one in (READ, WRITE, EXECUTE)]
        moved = everyone.with_uid(before.uid) ^ everyone.with_uid(uid)
        for one, other in zip(had, has, strict=True):
            moved |= one ^ other
        found = not moved & ~members & ~root
        if found:
            return True
    return found


@pytest.mark.slow
@pytest.mark.parametrize("folder", [0o755, 0o750])
def test_an_entry_costs_nobody_anything(folder: int) -> None:
    choices = random.Random(SEED)
    compared = 0
    for _ in range(WORLDS * 3):
        world = SmallWorld(choices, lists=True, folder=folder)
        for who, right, gives in itertools.product(world.people[1:], WANTS, (True, False)):
            found = world.ways(who, right, gives)
            if found.already:
                continue
            asked = f"{'let' if gives else 'bar'} {who.name} {right}: {world.file}"
            assert best_of(found) == (False, 0, 0), asked
            assert best_of(world.ways(who, right, gives, ("entry", "owner-bits"))) == (False, 0, 0), asked
            compared += 1
    assert compared > WORLDS * 10


def _kept(real: object, posture: Posture, tag: Tag, number: int | None, new: int, *more: object) -> object:
    """Entries are cut where the list was passed over, and not dropped."""
    wish = real(posture, tag, number, new, *more)  # type: ignore[operator]
    return wish._replace(remove=())


def _raised_over_others(
    real: object, posture: Posture, tag: Tag, number: int | None, new: int, *more: object
) -> object:
    """The mask is raised, and the entries that it was cutting are not cut first."""
    wish = real(posture, tag, number, new, *more)  # type: ignore[operator]
    return wish._replace(entries=wish.entries[:1], mask=None)


def _shrunk(real: object, posture: Posture, tag: Tag, number: int | None, new: int, *more: object) -> object:
    """The mask becomes --- where nothing else is left of it."""
    wish = real(posture, tag, number, new, *more)  # type: ignore[operator]
    return wish._replace(mask=None if wish.mask == READ else wish.mask)


@pytest.mark.slow
@pytest.mark.parametrize("fault", [_kept, _raised_over_others, _shrunk])
def test_the_proof_catches_planted_faults(fault: Callable[..., object], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(entrywishes, "raised", partial(fault, entrywishes.raised))
    with pytest.raises(AssertionError):
        test_an_entry_costs_nobody_anything(0o755)
