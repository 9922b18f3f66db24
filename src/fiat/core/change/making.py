"""Making plans: the change of each object that is meant, the guards that object, and who gains and who loses by it.

The effects are those of the host *as if* the plan were carried out; they are counted in
:mod:`fiat.core.change.counting`.
"""

import errno
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import partial
from typing import NamedTuple, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from fiat.core.change import guards, notes, steps
from fiat.core.change.counting import count_effects
from fiat.core.change.guards.acting import Suspect
from fiat.core.change.plan import NOT_MEANT, Plan, PlanPart, Surveys
from fiat.core.change.planned import PlannedChange
from fiat.core.change.steps import Change, wanted
from fiat.core.change.target import Target
from fiat.core.model import capabilities
from fiat.core.model.accesslist import Tag
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.idmap import NO_NUMBERS
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.posture import Identity, Kind, Posture
from fiat.core.model.principals import Principal
from fiat.core.model.wish import Wish
from fiat.core.tree.distinct import each_once
from fiat.core.tree.profile import Profile
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Handles

Judging = TypeVar("Judging")


class Beside(Protocol):
    """Begins a piece of work, and gives what waits for its end; it may be done by somebody else meanwhile, to whom
    everything is as it is at the beginning."""

    def __call__(self, work: Callable[[], Judging], /) -> Callable[[], Judging]:
        """What gives the result."""


def in_place(work: Callable[[], Judging]) -> Callable[[], Judging]:
    """Do a piece of work at once."""
    result = work()
    return lambda: result


def make_plan(
    host: Host,
    targets: Sequence[Target],
    wish: Wish = Wish(),  # noqa: B008
    progress: Progress = no_progress,
    *,
    count: bool = True,
    surveys: Surveys | None = None,
    actor: Principal | None = None,
    most: int | None = None,
    through_flags: bool = False,
    beside: Beside = in_place,
) -> Plan:
    """The plan for ``wish`` on ``targets``; without ``count``, gains and losses are left out.

    It is carried out by ``actor``, by default whoever acts on the host. Of what lies under a changed
    directory about ``most`` entries are counted, where that is given. Flags that are in the way are cleared
    for the change and set again ``through_flags``. What the guards say is found ``beside`` the counting.
    """
    making = _Making(host, wish, actor or host.actor(), through_flags=through_flags)
    made = Plan(making.changes, [])
    seen: set[Identity] = set()
    done: list[Target] = []
    for target in sorted(targets, key=lambda target: (target.survey.top.path, -len(target.survey))):
        path = target.survey.top.path
        if any(other.with_tree and other.survey.reaches(path) for other in done):
            continue  # it is in that tree, and meant there
        done.append(target)
        made.parts.append(making.part(target, seen))
    judged = beside(partial(_judged, host, made, making.asked, group_asked=making.group_asked))
    if count and any(planned.change.changes for planned in making.changes):
        count_effects(host, made, progress, {} if surveys is None else surveys, most)
    found = judged()
    made.guards, made.shown_at, made.names_elsewhere = found.guards, found.shown_at, found.names_elsewhere
    made.changed_alone, made.perhaps_changed_alone = found.changed_alone, found.perhaps_changed_alone
    return made


class _Making:
    """Makes the change for each profile once."""

    def __init__(self, host: Host, wish: Wish, actor: Principal, *, through_flags: bool) -> None:
        self.host = host
        self.wish = wish
        self.actor = actor
        self.through_flags = through_flags
        self.changes: list[PlannedChange] = []
        self._keeps_flags: dict[str, bool] = {}
        self.asked: frozenset[tuple[Tag, int | None]] = frozenset()
        self.group_asked = False

    def part(self, target: Target, seen: set[Identity]) -> PlanPart:
        survey = target.survey
        numbers = np.full(len(survey.profiles), NOT_MEANT, np.int32)
        used = np.bincount(survey.profile[target.chosen], minlength=len(survey.profiles))
        if self._owners_are_no_matter and target.goals is None and target.wish is None:
            self._number_alike(target, np.flatnonzero(used), numbers)
        else:
            for place in np.flatnonzero(used).tolist():
                numbers[place] = self._number(target, place, named=False)
        number = np.where(target.chosen, numbers[survey.profile], NOT_MEANT).astype(np.int32)
        if target.chosen[0]:
            number[0] = self._number(target, int(survey.profile[0]), named=True)
        write = number >= 0
        several = np.flatnonzero(write & (survey.links > 1) & ~survey.directories()).tolist()
        alone, perhaps = self._alone(survey, several)
        for place in several:
            if place in alone:
                continue
            write[place] = survey.identity(place) not in seen
            seen.add(survey.identity(place))
        if write[0] and 0 not in several:
            write[0] = survey.identity(0) not in seen
            seen.add(survey.identity(0))
        # what is mounted in it may be a target of its own, and its top is here already
        points = survey.profiles.by_rest(lambda rest: rest.mount_point)
        seen.update(survey.identity(place) for place in np.flatnonzero(points[survey.profile] & write).tolist())
        return PlanPart(target, number, write, alone, perhaps)

    def _alone(self, survey: Survey, places: Sequence[int]) -> tuple[frozenset[int], frozenset[int]]:
        """Which of the entries with several names change under one of them alone, for an overlay copies that up; and
        of which that is not known."""
        apart = survey.profiles.by_rest(lambda rest: rest.mount is not None and not rest.mount.keeps_names_together)
        handles = Handles(self.host)
        found, perhaps = set(), set()
        try:
            for place in places:
                if not apart[survey.profile[place]]:
                    continue
                with suppress(OSError):
                    node = handles.open(survey.path(place))
                    try:
                        lower = node.in_lower_layer()
                        if lower is None:
                            perhaps.add(place)
                        elif lower:
                            found.add(place)
                    finally:
                        node.close()
        finally:
            handles.close()
        return frozenset(found), frozenset(perhaps)

    @property
    def _owners_are_no_matter(self) -> bool:
        """Whether it is the same for every owner and group what comes of the wish: no other is asked for, by one whom
        no owner can keep from anything (capabilities(7)) and who knows all their numbers."""
        wish, actor, limits = self.wish, self.actor, self.actor.limits
        everybodys = limits is None or (limits.users is None and limits.groups is None)
        powerful = all(map(actor.holds, (capabilities.FOWNER, capabilities.FSETID, capabilities.DAC_OVERRIDE)))
        return everybodys and powerful and wish.uid is None and wish.gid is None and wish.like is None

    def _number_alike(self, target: Target, places: NDArray[np.intp], numbers: NDArray[np.int32]) -> None:
        """Number the changes for these profiles, each worked out once for all that differ in nothing but owners."""
        profiles = target.survey.profiles
        columns = profiles.columns
        alike = zip(*(column[places].tolist() for column in (columns.mode, columns.acl, columns.rest)), strict=True)
        known: dict[tuple[int, int, int], int] = {}
        for place, like in zip(places.tolist(), alike, strict=True):
            first = known.get(like)
            posture = profiles[place].posture
            if first == NOT_MEANT:
                numbers[place] = NOT_MEANT
            elif first is None or self.changes[first].notes or _without_number(posture):  # of which notes may speak
                numbers[place] = self._number(target, place, named=False)
                if first is None and not _without_number(posture):
                    known[like] = int(numbers[place])
            else:
                planned = self.changes[first]
                numbers[place] = len(self.changes)
                change = planned.change.for_owners_of(posture)
                self.changes.append(PlannedChange(profiles[place], change, held=planned.held))

    def _number(self, target: Target, place: int, *, named: bool) -> int:
        """The number of the change for entries with this profile; what was not ``named`` may not be meant at all."""
        profile = target.survey.profiles[place]
        posture = profile.posture
        if target.goals is not None:
            goal = target.goals.postures[place]
            change, held = self._change(profile, goal)
            self.changes.append(
                PlannedChange(profile, change, notes.on_flags(change), place in target.goals.known, held)
            )
            return len(self.changes) - 1
        wish = self.wish if target.wish is None else target.wish(profile)
        self.asked |= {(one.entry.tag, one.entry.id) for one in (*wish.access.entries, *wish.default.entries)}
        self.group_asked |= target.wish is None and wish.gid is not None and wish.like is None
        asked = named and (wish.default.changes or wish.flags or wish.no_flags or posture.kind is Kind.SYMLINK)
        if not wish.concerns(posture) and not asked:
            return NOT_MEANT
        goal = wanted(posture, wish, self.actor, self.host.settings.umask)
        change, held = self._change(profile, goal)
        change = self._impossible(change, profile, wish, named=named) or self._no_flags(change, target, place) or change
        filesystem = profile.mount.type if profile.mount is not None else None
        said = notes.of_change(change, goal, wish, self.host.accounts, filesystem) if change.changes else ()
        self.changes.append(PlannedChange(profile, change, said, held=held))
        return len(self.changes) - 1

    def _change(self, profile: Profile, goal: Posture) -> tuple[Change, bool]:
        """The change that makes ``goal``, and whether nothing but flags, which could be cleared, keeps it from that."""

        def made(*, through: bool) -> Change:
            towards = steps.steps_towards(profile.posture, goal, self.actor, through=through)
            return steps.change(profile.posture, towards, self.actor, profile.mount, profile.keeps_lists)

        change = made(through=self.through_flags)
        held = change.errno and profile.posture.flags and not self.through_flags and not made(through=True).errno
        return change, bool(held)

    def _no_flags(self, change: Change, target: Target, number: int) -> Change | None:
        """What shall have flags, and is on a file system that keeps none; one object of each is asked."""
        if change.steps.flags is None or change.errno:
            return None
        survey = target.survey
        filesystem = survey.profiles[number].filesystem
        if filesystem not in self._keeps_flags:
            handles = Handles(self.host)
            try:
                node = handles.open(survey.path(int(np.argmax(survey.profile == number))))
                try:
                    self._keeps_flags[filesystem] = node.keeps_flags()
                finally:
                    node.close()
            except OSError:
                return None  # it has gone, or may not be read: it is told when it is tried
            finally:
                handles.close()
        if self._keeps_flags[filesystem]:
            return None
        return Change(change.before, change.before, change.steps, errno=errno.ENOTTY)

    def _impossible(self, change: Change, profile: Profile, wish: Wish, *, named: bool) -> Change | None:
        """What was asked for by name and cannot be at all, though nothing of it was tried."""
        posture = profile.posture
        if not named or change.errno:
            return None
        if wish.default.changes and not wish.default.drop and not posture.directory:
            return Change(posture, posture, errno=errno.ENOTDIR)
        if posture.kind is Kind.SYMLINK and not wish.only_ownership:
            return Change(posture, posture, errno=errno.EOPNOTSUPP)
        if wish.flags or wish.no_flags:
            if posture.kind not in (Kind.FILE, Kind.DIRECTORY):
                return Change(posture, posture, errno=errno.EOPNOTSUPP)
            if posture.flags is None:  # what may not be opened cannot be given any either
                return Change(posture, posture, errno=errno.EACCES)
        return None


def _without_number(posture: Posture) -> bool:
    return posture.uid in NO_NUMBERS or posture.gid in NO_NUMBERS


# --- guards -----------------------------------------------------------------------


def _shown_at(part: PlanPart, meant: NDArray[np.bool_]) -> Iterator[str]:
    """By which paths other mounts show the first of what changes, or its top."""
    survey = part.target.survey
    beside = survey.profiles.by_rest(lambda rest: rest.mount is not None and bool(rest.mount.beside))[survey.profile]
    for place in np.flatnonzero(meant & beside)[:_SHOWN].tolist():
        mount = survey.profiles[int(survey.profile[place])].mount
        yield from mount.elsewhere(survey.path(place)) if mount is not None else ()


_SHOWN = 4
"""Of so many changed objects other paths are named."""


class _Judged(NamedTuple):
    """What the guards say of a plan, and what of :class:`Plan` comes to light with it."""

    guards: list[Finding]
    shown_at: list[str]
    names_elsewhere: int
    changed_alone: int
    perhaps_changed_alone: int


def _judged(host: Host, made: Plan, asked: guards.bits.Asked, *, group_asked: bool) -> _Judged:
    """Every guard that objects; ``group_asked`` tells that the owning group is asked for by name."""
    examples = made.examples()
    asked_for = {number for part in made.parts if part.target.owner_asked for number in each_once(part.number)}
    every = [
        Suspect(
            planned.profile,
            planned.change,
            examples[number],
            count,
            planned.known,
            planned.held,
            number in asked_for and not _runs(planned.change),
        )
        for number, (planned, count) in enumerate(zip(made.changes, made.counts(), strict=True))
        if count
    ]
    suspects = [one for one in every if one.change.changes]
    refused = [one for one in every if one.change.errno]
    changed: list[guards.ChangedPlace] = []
    shared: list[tuple[str, int]] = []
    inside: dict[Identity, int] = {}
    shown_at: list[str] = []
    elsewhere = alone = perhaps_alone = 0
    for part in made.parts:
        for identity, places in part.target.survey.several_names().items():
            inside[identity] = inside.get(identity, 0) + len(places)
    for part in made.parts:
        survey, meant = part.target.survey, part.write & made.changing_in(part)
        if meant.any():
            shown_at += [path for path in _shown_at(part, meant) if path not in shown_at]
        if meant.any() and part.target.goals is not None:  # each for itself, and not because of what it lies in
            paths = (path for _, path in survey.paths_of(np.flatnonzero(meant).tolist()))
            changed += [guards.ChangedPlace(path, False, 1) for path in paths]
        elif meant.any():
            changed.append(guards.ChangedPlace(survey.top.path, part.target.with_tree, int(meant.sum())))
        for place in np.flatnonzero(meant & (survey.links > 1) & ~survey.directories()).tolist():
            names = int(survey.links[place]) - inside[survey.identity(place)]
            perhaps_alone += place in part.perhaps_alone
            if place in part.alone:
                alone += 1
            elif names > 0:
                shared.append((survey.path(place), names))
                elsewhere += names
    secret_asked = asked | {(Tag.OWNING_GROUP, None)} if group_asked else asked
    secret_files = _secret_files(made, secret_asked)
    said = guards.objections(host, suspects, refused, changed, shared, asked, secret_files, secret_asked)
    return _Judged(said, shown_at, elsewhere, alone, perhaps_alone)


def _runs(change: Change) -> bool:
    """Whether it is a program: its owner says what it does."""
    return change.before.kind is Kind.FILE and bool(change.before.mode & EXECUTE_BITS)


def _secret_files(made: Plan, asked: guards.bits.Asked) -> Iterator[tuple[str, Change]]:
    """The files that change, of which it matters what they hold."""
    numbers = [number for number, one in enumerate(made.changes) if guards.secrets.concerns(one.change, asked)]
    for part in made.parts if numbers else ():
        if part.target.goals is not None and part.target.goals.earlier:
            continue
        survey = part.target.survey
        places = np.flatnonzero(part.write & np.isin(part.number, numbers))
        for place, path in survey.paths_of(places.tolist()):
            yield path, made.changes[int(part.number[place])].change
