"""Guards that speak of people: who is locked out, what is open to everyone, what root loses.

They ask for the effects of each kind of change, as everyone else does
(:mod:`fiat.core.ask.effects`), as if whoever is meant got there.
"""

from collections.abc import Iterator, Sequence

import numpy as np

from fiat.core.ask.treeeffects import Asker, Pair, View
from fiat.core.change.guards.acting import WHO
from fiat.core.change.steps import Change
from fiat.core.model.host import Host
from fiat.core.model.mode import STICKY, WRITE, octal
from fiat.core.model.posture import Identity, Kind, Object, Posture, Status
from fiat.core.model.principals import ANYONE_ELSE, Principal, Universe, unlisted_user
from fiat.core.model.right import EXECUTE, TRAVERSE, Right
from fiat.core.model.right import WRITE as RIGHT_TO_WRITE
from fiat.core.model.route import Route
from fiat.core.rules.decision import Decision
from fiat.core.rules.difference import diff
from fiat.core.rules.inheritance import inherited_modes
from fiat.core.tree.assembly import Assembly, Batch
from fiat.core.tree.profile import Profile
from fiat.core.words import naming

_RIGHTS = (RIGHT_TO_WRITE, EXECUTE, TRAVERSE)
_OPEN = Posture(Kind.DIRECTORY, 0o777, 0, 0)
_ROOT = unlisted_user(0, (0,))

Objection = tuple[int, str, str, str]
"""The number of a change, the guard, what would happen, and to whom."""


def objections(host: Host, changes: Sequence[tuple[Profile, Change]]) -> Iterator[Objection]:
    """What is to be said of each of ``changes``, by its number."""
    if not changes:
        return
    actor = host.actor()
    owners = sorted({change.after.uid for _, change in changes} - {0})
    universe = Universe([actor, ANYONE_ELSE, _ROOT, *map(unlisted_user, owners)])
    place_of = {uid: place for place, uid in enumerate(owners, 3)}
    asking = Asker(host, host, (universe, universe), _RIGHTS)
    pair = _side_by_side(changes)
    for difference in asking.differences(pair):
        gained, lost = diff(difference.before, difference.after)
        for place in difference.places.tolist():
            if place:
                change = changes[place - 1][1]
                owner = place_of.get(change.after.uid)
                who = naming.user(change.after.uid, host.accounts)
                for code, text in _of_one(change, actor, gained.get(RIGHT_TO_WRITE, 0), lost, owner):
                    yield place - 1, code, text, who
    for number, (_, change) in enumerate(changes):
        who = naming.user(change.after.uid, host.accounts)
        yield from ((number, code, text, who) for code, text in _of_ownership(change))


def _of_one(
    change: Change, actor: Principal, writers: int, lost: dict[Right, int], owner: int | None
) -> Iterator[tuple[str, str]]:
    after = change.after
    traverse = lost.get(TRAVERSE, 0)
    if owner is not None and traverse >> owner & 1:
        yield "lockout", f"its owner {WHO} could no longer traverse it"
    elif traverse & 1 and actor.uid != after.uid:
        yield "lockout", "the one who acts could no longer traverse it"
    if writers & 2:
        yield "everyone-writes", _open_to_all(after)
    if lost.get(EXECUTE, 0) & 4 and change.before.uid == 0:
        yield "from-root", f"not even root could execute it, with no x left in {octal(after.mode)}"


def _open_to_all(after: Posture) -> str:
    if not after.directory:
        return "everyone who gets there could write to it"
    if after.mode & STICKY:
        return "everyone who gets there could add names; sticky keeps them from removing others'"
    return "everyone who gets there could add, rename and remove names in it"


GIVEN_AWAY = "it would belong to "
"""How it begins what is said of root's own that gets another owner."""


def _of_ownership(change: Change) -> Iterator[tuple[str, str]]:
    before, after = change.before, change.after
    if before.uid == 0 and after.uid != 0:
        yield "from-root", f"{GIVEN_AWAY}{WHO}, who could then change it as they like"
    if _new_files_open(after) and not _new_files_open(before):
        yield "everyone-writes", "everyone could write to what is made in it, by its default list"


def _new_files_open(posture: Posture) -> bool:
    """Whether anyone else may write to a file that is made in a directory with a default list."""
    if posture.default is None:
        return False
    mode, _ = inherited_modes(posture.default, posture.mode)
    made = Posture(Kind.FILE, mode, posture.uid, posture.gid)
    return bool(Decision(made, Universe([ANYONE_ELSE])).allowed(WRITE))


def _side_by_side(changes: Sequence[tuple[Profile, Change]]) -> Pair:
    """One directory that is open to everyone, holding an object for each change: before, and after."""
    top = Object("/", _OPEN, Status(Identity("", 0)))
    count = len(changes)
    assembly = Assembly(top)
    for profile, _ in changes:
        assembly.profiles.append(profile)
    numbers = np.arange(count, dtype=np.int32)
    names = b"".join(b"%08d" % number for number in range(count))
    assembly.add(
        Batch(
            profile=numbers + 1,
            inode=np.zeros(count, np.uint64),
            links=np.ones(count, np.uint32),
            birth=np.zeros(count, np.int64),
            name_lengths=np.full(count, 8, np.uint16),
            names=names,
            directories=np.array([-1], np.int32),
            counts=np.array([count], np.int32),
        ),
        [0],
    )
    before = assembly.survey()
    profiles, number = before.profiles.copy(), before.profile.copy()
    after = [change.after for _, change in changes]
    number[1:] = profiles.with_postures(number[1:].astype(np.intp), after, np.arange(count))
    route = Route("/", (), top)
    return Pair(View(route, before), View(route, before.with_profiles(profiles, number)))
