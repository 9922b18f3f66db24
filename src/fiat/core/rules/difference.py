"""Before and after: where two answers differ, and what a change of one posture can change at all.

Whatever compares who could do something with who can asks :func:`diff`. Whoever has to know beforehand how much a
change of a posture can move - among whom, how far below a directory, with what besides - asks the rest of this module,
so that none of them reckons by rules of its own.
"""

from collections.abc import Hashable, Mapping
from enum import Enum
from typing import Generic, NamedTuple, TypeVar

from fiat.core.model import capabilities
from fiat.core.model import right as rights
from fiat.core.model.host import Settings
from fiat.core.model.mode import EXECUTE, SPECIAL, STICKY, WRITE
from fiat.core.model.posture import Identity, Kind, Object, Posture, Status
from fiat.core.model.principals import Universe
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.decision import Decisions

What = TypeVar("What", bound=Hashable)


class Diff(NamedTuple, Generic[What]):
    """For each thing that can be asked: the set of those who gain it, and of those who lose it, where there are any."""

    gained: dict[What, int]
    lost: dict[What, int]


def diff(before: Mapping[What, int | None], after: Mapping[What, int | None]) -> Diff[What]:
    """Who gains and who loses what, by two answers to the same questions.

    Each answer is the set of principals for whom it is so, None where the question means nothing: then nobody gains
    or loses anything there.
    """
    return Diff(_newly(before, after), _newly(after, before))


def _newly(one: Mapping[What, int | None], other: Mapping[What, int | None]) -> dict[What, int]:
    found = {}
    for what, had in one.items():
        has = other[what]
        if had is not None and has is not None and has & ~had:
            found[what] = has & ~had
    return found


# --- how much a change can change ------------------------------------------------------


def people_concerned(decisions: Decisions, before: Posture, after: Posture) -> int | None:
    """Among whom anything can be gained or lost by a change of a posture; None where that is anybody.

    Those whose class changes, or what it is given; owners, and who may do as they can. Where a sticky bit
    or the owner of a sticky directory changes, a flag, or a link's owner, it is anybody: they could have what an owner
    could not, or the other way round, with what belongs to somebody else.
    """
    universe = decisions.universe
    special, owner = (before.mode ^ after.mode) & SPECIAL, before.uid != after.uid
    sticky = special & STICKY or (owner and before.mode & STICKY)
    if (sticky and before.directory) or before.flags != after.flags or before.kind is Kind.SYMLINK:
        return None
    among = decisions.may_differ(before, after)
    if owner or special or before.gid != after.gid:
        among |= universe.with_uid(before.uid) | universe.with_uid(after.uid) | universe.holders_of(capabilities.CHOWN)
    if owner:  # where files are protected, only those of the directory's owner are open to others
        among |= decisions.of(before).allowed(WRITE) | decisions.of(after).allowed(WRITE)
    return among


class ChangeReach(Enum):
    """How far below a directory a change of its posture can change who may do what."""

    NOTHING = "nothing"
    ITS_NAMES = "the names in it"
    EVERYTHING = "everything below"


def reach_below(decisions: Decisions, before: Posture, after: Posture) -> ChangeReach:
    """How far a change of a directory reaches: all below where who may traverse it changes, its names alone where who
    may add and remove them does."""
    had, has = decisions.of(before), decisions.of(after)
    if had.allowed(EXECUTE) != has.allowed(EXECUTE):
        return ChangeReach.EVERYTHING
    names = had.allowed(WRITE | EXECUTE) != has.allowed(WRITE | EXECUTE) or before.flags != after.flags
    sticky = (before.mode ^ after.mode) & STICKY or (after.mode & STICKY and before.uid != after.uid)
    return ChangeReach.ITS_NAMES if names or sticky else ChangeReach.NOTHING


def moves_names_of_others(before: Posture, after: Posture) -> bool:
    """Whether others come to remove names that are not theirs, or no more: by who owns a sticky directory, or by the
    bit."""
    sticky = before.mode & STICKY, after.mode & STICKY
    return before.directory and (sticky[0] != sticky[1] or (sticky[0] > 0 and before.uid != after.uid))


# --- what a posture decides alone --------------------------------------------------------

_OPEN_FOLDER = Posture(Kind.DIRECTORY, 0o777, 0, 0)
_NOBODYS = Posture(Kind.FILE, 0o666, 0xFFFFFFFE, 0xFFFFFFFE)
"""A file that belongs to nobody who is asked about."""


class PostureAnswers:
    """Who may do what with an object because of its posture, whatever lies on the way and wherever it is mounted."""

    def __init__(self, universe: Universe) -> None:
        self.universe = universe
        self._access = Access(universe, Settings())

    def of(self, posture: Posture) -> dict[object, int]:
        """The answers to every right, to any permissions asked for at once (1 to 7: open(2) with O_RDWR), to removing
        somebody else's name from a directory, and who owns it."""
        access, object_ = self._access, _object_with(posture)
        route, folder = Route("/", (), object_), _object_with(_OPEN_FOLDER)
        found: dict[object, int] = {"own": self.universe.with_uid(posture.uid)}
        for right in rights.ALL:
            if right.applies(posture.kind):
                named = access.passing(access.name_checks(folder, object_, right))
                found[right] = named & access.passing(access.object_checks(route, object_, right))
        decision = access.decisions.of(posture)
        found |= {want: decision.allowed(want) for want in range(1, 8)}
        if posture.directory:
            theirs = _object_with(_NOBODYS)
            found["remove names"] = access.passing(access.name_checks(object_, theirs, rights.DELETE))
        return found


def _object_with(posture: Posture) -> Object:
    return Object("/", posture, Status(Identity("", 0, 0)))
