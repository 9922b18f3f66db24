"""Putting back the postures of an earlier state: which objects these are, what each is to be, and what is left alone.

An object is the same by its path and inode, or by its inode and birth where it
was moved. What is new, gone or another object now is left alone and told.
"""

from collections.abc import Callable, Iterator
from enum import Enum
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.who import universe_of
from fiat.core.change.target import Goals
from fiat.core.model.accesslist import AccessList, Entry, Tag, check
from fiat.core.model.accounts import Accounts
from fiat.core.model.posture import FLAGS, Kind, Posture
from fiat.core.rules.difference import PostureAnswers, diff
from fiat.core.rules.privilege import is_privileged, without_privilege
from fiat.core.rules.sideeffects import with_mode
from fiat.core.state.comparison import Compared, posture_differs
from fiat.core.tree.distinct import distinct_columns
from fiat.core.tree.profile import Profile
from fiat.core.tree.survey import Survey


class RestoreDirection(Enum):
    """What of the differences is put back: everything, only what people lost, or only what they gained."""

    EVERYTHING = "everything"
    LOST = "lost"
    GAINED = "gained"


class LeftObjects(NamedTuple):
    """Some objects that are left alone: ``why`` (a word), their places, and of which of the two trees these are."""

    why: str
    survey: Survey
    places: NDArray[np.int64]


class Restoring(NamedTuple):
    """What is to be put back in one tree: the survey of it as it is, what is chosen there, and what it is to become.

    ``otherwise`` are the places of what is chosen and does not come to be just as it was.
    """

    survey: Survey
    chosen: NDArray[np.bool_]
    goals: Goals
    left: list[LeftObjects]
    otherwise: NDArray[np.int64]


Unchanged = Callable[[int, int], bool]
"""Whether what had privilege earlier (by its place there) may have it back on what it holds now (by its place now)."""


def restoring(
    compared: Compared,
    now: Survey,
    accounts: Accounts,
    unchanged: Unchanged,
    only: RestoreDirection = RestoreDirection.EVERYTHING,
    *,
    privilege: bool = False,
) -> Restoring:
    """What putting back does, by a comparison of the earlier state with the tree as it is, read as ``now``.

    What is not ``unchanged`` comes back without set-id bits and capabilities, unless their ``privilege`` was accepted.
    """
    before, after, matching = compared.pair.before.survey, compared.pair.after.survey, compared.matching
    changed = compared.changed.copy()
    elsewhere = _filesystems(before)[matching.before] != _filesystems(after)[matching.after]
    not_sure = matching.moved & ~matching.sure
    left = [
        LeftObjects("other-filesystem", after, matching.after[changed & elsewhere]),
        LeftObjects("replaced", after, matching.after[changed & ~elsewhere & matching.replaced]),
        LeftObjects("perhaps-moved", after, matching.after[changed & ~elsewhere & ~matching.replaced & not_sure]),
        LeftObjects("gone", before, matching.gone),
        LeftObjects("new", after, matching.new),
    ]
    meant = np.flatnonzero(changed & ~elsewhere & ~matching.replaced & ~not_sure)
    mine, theirs = matching.after[meant], matching.before[meant]
    known = _may_be_given(before, theirs, mine, unchanged)
    first, number = distinct_columns(now.profile[mine].astype(np.int64), before.profile[theirs].astype(np.int64), known)
    chooser = _Chooser(accounts, only)
    goals: dict[int, Posture] = {}
    unreached, stays, unprivileged, other = (np.zeros(len(first), np.bool_) for _ in range(4))
    count = len(now.profiles)
    for which, place in enumerate(first.tolist()):
        has, had = now.profiles[int(now.profile[mine[place]])], before.profiles[int(before.profile[theirs[place]])]
        wanted = chooser.goal(has, had)
        goal = has.posture if wanted is None else wanted
        if not known[place] and not privilege:
            goal = without_privilege(goal) if wanted is not None else goal
            unprivileged[which] = wanted is not None and goal != wanted
        unreached[which] = wanted is None
        stays[which] = wanted is not None and goal == has.posture
        other[which] = posture_differs(has._replace(posture=goal), had)
        goals[count + which] = goal
    trusted = frozenset((np.flatnonzero(known[first]) + count).tolist())
    profiles = now.profiles.taken(np.concatenate([np.arange(count), now.profile[mine][first].astype(np.int64)]))
    profile = now.profile.copy()
    profile[mine] = (count + number).astype(np.int32)
    chosen = np.zeros(len(now), np.bool_)
    chosen[mine] = ~(unreached | stays)[number]
    left.append(LeftObjects("privilege", after, mine[unprivileged[number]]))
    left.append(LeftObjects("not-only", after, mine[unreached[number]]))
    if only is RestoreDirection.EVERYTHING:  # what stays differs by nothing that is put back
        left.append(LeftObjects("other-flags", after, mine[(stays & ~unprivileged)[number]]))
    survey = now.with_profiles(profiles, profile)
    otherwise = mine[(other & ~(unreached | stays))[number]]
    return Restoring(
        survey, chosen, Goals(goals, trusted, earlier=True), [one for one in left if len(one.places)], otherwise
    )


def without(found: Restoring, places: NDArray[np.int64]) -> Restoring:
    """The same with these places left alone, since more than was lost would be given there."""
    if not len(places):
        return found
    chosen = found.chosen.copy()
    chosen[places] = False
    return found._replace(chosen=chosen, left=[*found.left, LeftObjects("opens-more", found.survey, places)])


def _filesystems(survey: Survey) -> NDArray[Any]:
    return survey.profiles.by_rest(lambda rest: rest.filesystem, np.object_)[survey.profile]


def _may_be_given(
    survey: Survey, places: NDArray[np.int64], others: NDArray[np.int64], unchanged: Unchanged
) -> NDArray[np.int64]:
    """For each pair of ``places`` in the earlier ``survey`` and ``others`` now 1 where privilege may be given back."""
    privileged = np.array([is_privileged(profile.posture) for profile in survey.profiles], np.bool_)
    found = np.ones(len(places), np.int64)
    for which in np.flatnonzero(privileged[survey.profile[places]]).tolist():
        found[which] = unchanged(int(places[which]), int(others[which]))
    return found


class _Chooser:
    """Finds what a posture is to become on its way back to an earlier one."""

    def __init__(self, accounts: Accounts, only: RestoreDirection) -> None:
        self._accounts = accounts
        self._only = only

    def goal(self, now: Profile, then: Profile) -> Posture | None:
        """What ``now`` is to become, itself where nothing is to be done; None where it would do the other as well."""
        wanted = _known_of(now, then)
        if self._only is RestoreDirection.EVERYTHING or now.posture.kind is Kind.SYMLINK:
            return wanted
        return self._partly(now.posture, wanted)

    def _partly(self, now: Posture, then: Posture) -> Posture | None:
        """The candidate that goes furthest, of those that only give what was lost (or take what was gained)."""
        gives = self._only is RestoreDirection.LOST
        kept = now.capabilities if gives or now.capabilities == then.capabilities else None
        flags = _flags_between(now.flags, then.flags, gives=gives)
        merged = [
            now._replace(uid=uid, gid=gid, capabilities=kept, flags=some)
            for some in dict.fromkeys((now.flags, flags))
            for uid, gid in dict.fromkeys(((now.uid, now.gid), (then.uid, then.gid), (now.uid, then.gid)))
        ]
        candidates = [then, *(_merged(one, then, gives=gives) for one in merged)]
        answers = PostureAnswers(universe_of(self._accounts, [now, *candidates]))
        has = answers.of(now)
        between = diff(has, answers.of(then))
        due = between.gained if gives else between.lost
        if not due:
            return now
        best: tuple[int, Posture] | None = None
        for candidate in candidates:
            comes = diff(has, answers.of(candidate))
            moves, other = (comes.gained, comes.lost) if gives else (comes.lost, comes.gained)
            if other or any(some & ~due.get(what, 0) for what, some in moves.items()):
                continue
            reach = sum(some.bit_count() for some in moves.values())
            if reach and (best is None or reach > best[0]):
                best = reach, candidate
        return None if best is None else best[1]


_Flags = tuple[str, ...] | None


def _flags_between(now: _Flags, then: _Flags, *, gives: bool) -> _Flags:
    """What takes no flag away but those that came since, or, if it is not to give anything, adds those that went."""
    if now is None or then is None:
        return now
    return tuple(flag for flag in FLAGS if (flag in now and flag in then if gives else flag in now or flag in then))


def _known_of(now: Profile, then: Profile) -> Posture:
    """The earlier posture, with what is now where that could not be read then, or cannot be now."""
    wanted = then.posture
    if wanted.flags is None or now.posture.flags is None:
        wanted = wanted._replace(flags=now.posture.flags)
    if not posture_differs(now, then):
        return now.posture
    unknown = {what for what, _ in (*now.unknown, *then.unknown)}
    for what, field in (("access list", "acl"), ("default list", "default"), ("capabilities", "capabilities")):
        if what in unknown:
            kept: dict[str, Any] = {field: getattr(now.posture, field)}
            wanted = wanted._replace(**kept)
    return wanted


def _merged(now: Posture, then: Posture, *, gives: bool) -> Posture:
    """Each class and entry gets what it has in either of the two; or, if it is not to be given, in both."""
    join: Callable[[int, int], int] = (lambda one, other: one | other) if gives else (lambda one, other: one & other)
    mode = now.mode & 0o7000 | join(now.mode & 0o777, then.mode & 0o777)
    acl = _merged_lists(now, then, join, gives)
    if acl is None:
        return now._replace(mode=mode, acl=None)
    mode = mode & ~0o070 | ((acl.mask if acl.mask is not None else mode >> 3) & 7) << 3
    return now._replace(mode=mode, acl=with_mode(acl, mode))


def _merged_lists(now: Posture, then: Posture, join: Callable[[int, int], int], gives: bool) -> AccessList | None:
    if now.acl is None and (then.acl is None or not gives):
        return None
    one, other = (_entries(posture) for posture in (now, then))
    keys = dict.fromkeys((*one, *other)) if gives else dict.fromkeys(key for key in one)
    entries = [Entry(tag, join(one.get((tag, number), 0), other.get((tag, number), 0)), number) for tag, number in keys]
    if not any(entry.tag is Tag.MASK for entry in entries):
        entries.append(Entry(Tag.MASK, join(now.mode >> 3 & 7, then.mode >> 3 & 7), None))
    return check(sorted(entries, key=lambda entry: (int(entry.tag), entry.id or 0)))


def _entries(posture: Posture) -> dict[tuple[Tag, int | None], int]:
    if posture.acl is not None:
        return {(entry.tag, entry.id): entry.permissions for entry in posture.acl.entries}
    bits = posture.mode
    return {
        (Tag.OWNER, None): bits >> 6 & 7,
        (Tag.OWNING_GROUP, None): bits >> 3 & 7,
        (Tag.OTHER, None): bits & 7,
    }


def all_left(found: Restoring) -> Iterator[tuple[str, str]]:
    """Why, and the path, of everything that is left alone."""
    for why, survey, places in found.left:
        for _, path in survey.paths_of(places.tolist()):
            yield why, path
