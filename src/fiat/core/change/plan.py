"""Plans: what a wish does to many paths, made before anything is written.

Each object's change, the guards that object, and who gains and who loses which
right: the effects of the host *as if* the plan were carried out.
"""

import errno
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask import caveats, treeeffects
from fiat.core.ask.effects import Effects, Shift
from fiat.core.ask.remarks import unreadable_script
from fiat.core.ask.treecaveats import first_of_each_kind
from fiat.core.ask.treeeffects import Asking, Pair, View
from fiat.core.ask.who import universe_of
from fiat.core.change import guards, notes, steps
from fiat.core.change.guards.acting import Suspect
from fiat.core.change.planned import Item, PlannedChange
from fiat.core.change.steps import Change, wanted
from fiat.core.change.target import Target
from fiat.core.model.accesslist import Tag
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.posture import Identity, Kind, Posture, Program
from fiat.core.model.principals import Principal
from fiat.core.model.route import lies_under
from fiat.core.model.wish import Wish
from fiat.core.rules.decision import Decisions
from fiat.core.rules.difference import Reach, reach_below
from fiat.core.text import visible
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.distinct import distinct_values, first_places
from fiat.core.tree.postures import PosturesOfMany
from fiat.core.tree.profile import Profile
from fiat.core.tree.reading import survey_at
from fiat.core.tree.survey import Numbers, Survey
from fiat.core.tree.walk import Extent, Handles, Trouble, walk

NOT_MEANT = -1
"""In the place of the number of a change: this entry is not to be changed."""


class Part(NamedTuple):
    """The part of a plan that is one target's: for each entry the number of its change.

    ``write`` leaves out the further names of an inode that has several.
    """

    target: Target
    number: Numbers
    write: NDArray[np.bool_]


class Plan:
    """What a command would do.

    ``troubles`` are places under a changed directory that could not be looked
    at: gains and losses there are not counted; ``skipped`` are mounts that
    were left out there. ``names_elsewhere`` are further names of what changes,
    wherever they are. ``caveats`` are about what gains and losses were counted on, ``notes`` what is
    to be known of some of the paths besides.
    """

    def __init__(self, changes: list[PlannedChange], parts: list[Part]) -> None:
        self.changes = changes
        self.parts = parts
        self.guards: list[Finding] = []
        self.effects: Effects | None = None
        self.troubles: list[Trouble] = []
        self.skipped: list[str] = []
        self.names_elsewhere = 0
        self.caveats: list[Finding] = []
        self.notes: list[Finding] = []

    @property
    def gains(self) -> tuple[Shift, ...]:
        """Who gains what; nothing where effects were not asked for, or nothing changes."""
        return self.effects.gains if self.effects is not None else ()

    @property
    def losses(self) -> tuple[Shift, ...]:
        """Who loses what."""
        return self.effects.losses if self.effects is not None else ()

    def items(self) -> Iterator[Item]:
        """Everything that is meant, whether it changes or not, parents first."""
        for part in self.parts:
            yield from self._items(part, part.write)

    def numbered(self, part: Part) -> Iterator[tuple[int, str]]:
        """Everything of a part that is meant: the number of its change, and its path."""
        for place, path in part.target.survey.paths_of(np.flatnonzero(part.write).tolist()):
            yield int(part.number[place]), path

    def refused(self) -> Iterator[Item]:
        """What the kernel would refuse to change."""
        refused = np.array([planned.change.errno != 0 for planned in self.changes] or [False], np.bool_)
        for part in self.parts:
            yield from self._items(part, part.write & refused[part.number])

    def _items(self, part: Part, which: NDArray[np.bool_]) -> Iterator[Item]:
        survey = part.target.survey
        for places, paths in survey.paths_in_blocks(np.flatnonzero(which)):
            planned = [self.changes[number] for number in part.number[places].tolist()]
            links = np.where(survey.directories_at(places), 1, survey.links[places]).tolist()
            yield from map(Item, paths, survey.identities(places), planned, links)

    def to_write(self) -> list[Item]:
        """What is to be written, what is in a directory before the directory.

        So a change that takes away the way in does not stand in its own way.
        What has several names is looked at by each of them, so it comes first
        of all.
        """
        found: list[Item] = []
        shared: list[Item] = []
        for part in self.parts:
            survey = part.target.survey
            several = survey.several_names()
            items = list(self._items(part, part.write & self._changing(part)))
            with_names = set()
            for at in [at for at, item in enumerate(items) if item.links > 1]:
                names = several.get(items[at].identity, ())
                if items[at].links <= len(names):  # more than it has, where one was moved while the tree was read
                    shared.append(items[at]._replace(names=tuple(survey.path(other) for other in names)))
                    with_names.add(at)
            found += [item for at, item in enumerate(items) if at not in with_names] if with_names else items
        return [*reversed(shared), *reversed(found)]

    def _changing(self, part: Part) -> NDArray[np.bool_]:
        """For each entry of a part, whether anything of it will be different."""
        does = np.array([planned.change.changes for planned in self.changes] or [False], np.bool_)
        found: NDArray[np.bool_] = does[part.number] & (part.number >= 0)
        return found

    @property
    def changing(self) -> int:
        """How many objects will be different."""
        counts = zip(self.counts(), self.changes, strict=True)
        return sum(count for count, planned in counts if planned.change.changes)

    def counts(self) -> list[int]:
        """For each of ``changes``, how many objects it is for."""
        total = np.zeros(len(self.changes), np.int64)
        for part in self.parts:
            total += np.bincount(part.number[part.write], minlength=len(self.changes))
        return [int(count) for count in total]

    def examples(self) -> dict[int, str]:
        """For each change that is for something, by its number, the first path that it is for."""
        found: dict[int, str] = {}
        for part in self.parts:
            places = np.flatnonzero(part.write)
            first = dict(zip(part.number[places][::-1].tolist(), places[::-1].tolist(), strict=True))
            number_at = {place: number for number, place in first.items()}
            for place, path in part.target.survey.paths_of(sorted(number_at)):
                found.setdefault(number_at[place], path)
        return found

    def postures_after(self) -> PosturesOfMany:
        """What everything that changes will be, once the plan is carried out."""
        postures = [planned.change.after for planned in self.changes]
        filesystems: dict[str, int] = {}
        inode, birth, filesystem, number = [], [], [], []
        for part in self.parts:
            survey = part.target.survey
            places = np.flatnonzero(part.write & self._changing(part))
            systems = survey.profiles.by_rest(
                lambda rest: filesystems.setdefault(rest.filesystem, len(filesystems)), np.int32
            )
            inode.append(survey.inode[places])
            birth.append(survey.birth[places])
            filesystem.append(systems[survey.profile[places]])
            number.append(part.number[places])
        nothing = np.zeros(0, np.int32)
        return PosturesOfMany(
            postures,
            list(filesystems),
            np.concatenate([nothing.astype(np.uint64), *inode]),
            np.concatenate([nothing.astype(np.int64), *birth]),
            np.concatenate([nothing, *filesystem]),
            np.concatenate([nothing, *number]),
        )


Surveys = dict[tuple[str, Extent], Survey]
"""What was read under changed directories: several plans about the same read it once."""


def make(
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
) -> Plan:
    """The plan for ``wish`` on ``targets``; without ``count``, gains and losses are left out.

    It is carried out by ``actor``, by default whoever acts on the host. Of what lies under a changed
    directory about ``most`` entries are counted, where that is given. Flags that are in the way are cleared
    for the change and set again ``through_flags``.
    """
    making = _Making(host, wish, actor or host.actor(), through_flags=through_flags)
    made = Plan(making.changes, [])
    seen: set[Identity] = set()
    done: list[Target] = []
    for target in sorted(targets, key=lambda target: (target.survey.top.path, -len(target.survey))):
        path = target.survey.top.path
        if any(_holds(other, path) for other in done):
            continue  # it is in that tree, and meant there
        done.append(target)
        made.parts.append(making.part(target, seen))
    made.guards = _objections(host, made, making.asked)
    if count and any(planned.change.changes for planned in making.changes):
        _Counting(host, made, progress, {} if surveys is None else surveys, most).count()
    return made


def _holds(target: Target, path: str) -> bool:
    """Whether ``path`` is one of those that were surveyed for ``target``."""
    return target.with_tree and _includes(target.survey, path)


def _includes(survey: Survey, path: str) -> bool:
    """Whether ``path`` is in the tree that was surveyed; what is mounted in it is not, where it was left out."""
    if len(survey) == 1:
        return path == survey.top.path
    return lies_under(path, survey.top.path) and not any(lies_under(path, mount) for mount in survey.skipped)


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

    def part(self, target: Target, seen: set[Identity]) -> Part:
        survey = target.survey
        numbers = np.full(len(survey.profiles), NOT_MEANT, np.int32)
        used = np.bincount(survey.profile[target.chosen], minlength=len(survey.profiles))
        for place in np.flatnonzero(used).tolist():
            numbers[place] = self._number(target, place, named=False)
        number = np.where(target.chosen, numbers[survey.profile], NOT_MEANT).astype(np.int32)
        if target.chosen[0]:
            number[0] = self._number(target, int(survey.profile[0]), named=True)
        write = number >= 0
        several = np.flatnonzero(write & (survey.links > 1) & ~survey.directories()).tolist()
        for place in several:
            write[place] = survey.identity(place) not in seen
            seen.add(survey.identity(place))
        if write[0] and 0 not in several:
            write[0] = survey.identity(0) not in seen
            seen.add(survey.identity(0))
        # what is mounted in it may be a target of its own, and its top is here already
        points = survey.profiles.by_rest(lambda rest: rest.mount_point)
        seen.update(survey.identity(place) for place in np.flatnonzero(points[survey.profile] & write).tolist())
        return Part(target, number, write)

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


# --- guards -----------------------------------------------------------------------


def _objections(host: Host, made: Plan, asked: guards.bits.Asked) -> list[Finding]:
    """Every guard that objects."""
    examples = made.examples()
    every = [
        Suspect(planned.profile, planned.change, examples[number], count, planned.known, planned.held)
        for number, (planned, count) in enumerate(zip(made.changes, made.counts(), strict=True))
        if count
    ]
    suspects = [one for one in every if one.change.changes]
    refused = [one for one in every if one.change.errno]
    changed: list[guards.Place] = []
    shared: list[tuple[str, int]] = []
    inside: dict[Identity, int] = {}
    for part in made.parts:
        for identity, places in part.target.survey.several_names().items():
            inside[identity] = inside.get(identity, 0) + len(places)
    for part in made.parts:
        survey, meant = part.target.survey, part.write & made._changing(part)
        if meant.any() and part.target.goals is not None:  # each for itself, and not because of what it lies in
            paths = (path for _, path in survey.paths_of(np.flatnonzero(meant).tolist()))
            changed += [guards.Place(path, False, 1) for path in paths]
        elif meant.any():
            changed.append(guards.Place(survey.top.path, part.target.with_tree, int(meant.sum())))
        for place in np.flatnonzero(meant & (survey.links > 1) & ~survey.directories()).tolist():
            names = int(survey.links[place]) - inside[survey.identity(place)]
            if names > 0:
                shared.append((survey.path(place), names))
                made.names_elsewhere += names
    return guards.objections(host, suspects, refused, changed, shared, asked)


# --- gains and losses -----------------------------------------------------------------


class _Counting:
    """Counts, over the changed objects and what lies under them, who gains and who loses."""

    def __init__(self, host: Host, made: Plan, progress: Progress, surveys: Surveys, most: int | None) -> None:
        self.host = host
        self.surveys = surveys
        self.most = most
        self.made = made
        self.progress = progress
        self.postures = made.postures_after()
        self.after = HostAsIf(host, Supposition(self.postures))
        self.shared = len(made.parts) > 1 and any(map(self._changes_shared, made.parts))

    def _changes_shared(self, part: Part) -> bool:
        """Whether something with several names changes."""
        survey, number = part.target.survey, part.number
        places = np.flatnonzero((survey.links > 1) & ~survey.directories() & (number >= 0))
        return any(self.made.changes[one].change.changes for one in np.unique(number[places]).tolist())

    def count(self) -> None:
        made = self.made
        pairs = list(self._pairs())
        changed = [(planned.change.before, planned.change.after) for planned in made.changes if planned.change.changes]
        universe = treeeffects.universe_for(self.host, changed, pairs)
        asking = Asking(self.host, self.after, (universe, universe))
        made.effects = treeeffects.effects(asking, pairs)
        for route in (*asking.before.interpreters, *asking.after.interpreters):
            made.caveats += caveats.of_route(route)

    def _pairs(self) -> Iterator[Pair]:
        """Everything that may be affected, each entry once: what changes, and what lies under it where that counts."""
        parts = sorted(self.made.parts, key=lambda part: (part.target.survey.top.path, -len(part.target.survey)))
        tops = [part.target.survey.top.path for part in parts]
        covered: list[Survey] = []
        for part, top in zip(parts, tops, strict=True):
            if any(_includes(survey, top) for survey in covered):
                continue
            survey = part.target.survey
            if not part.target.with_tree:
                if self._change_of_top(part) is None:
                    continue
                extent = self._extent_under(part)
                if extent is not None and any(lies_under(other, top) and other != top for other in tops):
                    extent = Extent(most=self.most)  # so that nothing is counted twice
                if extent is not None:
                    survey = self._survey(top, extent)
            route = walk(self.host, top, follow=False)
            if route.end is not None:
                known = any(top in other.skipped for other in covered)
                covered.append(survey)
                for place in first_of_each_kind(survey):
                    self.made.caveats += caveats.of_object(survey.object(place))
                survey = self._with_programs(survey)
                then, after = walk(self.after, top, follow=False), self.postures.on(survey)
                self._note_scripts(survey, after)
                yield Pair(View(route, survey), View(then, after), without_top=known)

    def _change_of_top(self, part: Part) -> Change | None:
        """The change of the top of a target, if it makes a difference."""
        if part.number[0] < 0:
            return None
        change = self.made.changes[int(part.number[0])].change
        return change if change.changes else None

    def _extent_under(self, part: Part) -> Extent | None:
        """How much of what is under a changed directory can be affected; None where nothing can."""
        change = self._change_of_top(part)
        if change is None or not change.after.directory:
            return None
        if self.shared:
            return Extent(most=self.most)  # another name of what changes may lie anywhere under it
        universe = universe_of(self.host.accounts, [change.before, change.after])
        reach = reach_below(Decisions(universe), change.before, change.after)
        return None if reach is Reach.NOTHING else Extent(one_level=reach is Reach.ITS_NAMES, most=self.most)

    def _survey(self, path: str, extent: Extent) -> Survey:
        survey = self.surveys.get((path, extent)) or self.surveys.get((path, Extent()))
        if survey is None:
            survey = survey_at(self.host, path, extent, self.progress, follow=False)[1]
            self.surveys[path, extent] = survey
        if not (survey.complete or survey.bounded):
            raise KeyboardInterrupt
        # what has gone meanwhile was nobody's to gain or lose
        self.made.troubles += [trouble for trouble in survey.troubles if trouble.errno != errno.ENOENT]
        if not extent.one_level:
            self.made.skipped += survey.skipped
        return survey

    def _note_scripts(self, before: Survey, after: Survey) -> None:
        """Scripts that get an x which does nothing: their interpreter may not read them."""
        scripts = before.profiles.by_rest(lambda rest: rest.program is not None and rest.at().script is not None)
        places = np.flatnonzero(scripts[before.profile] & (before.profile != after.profile))
        pairs = before.profile[places].astype(np.int64) * len(after.profiles) + after.profile[places]
        counts: dict[str, Finding] = {}
        distinct, number = distinct_values(pairs)
        first = first_places(number, len(distinct))
        for pair, place, paths in zip(distinct.tolist(), first.tolist(), np.bincount(number).tolist(), strict=True):
            had, has = divmod(pair, len(after.profiles))
            if after.profiles[has].posture.mode & EXECUTE_BITS & ~before.profiles[had].posture.mode:
                for found in unreadable_script(after.profiles[has].at()):
                    known = counts.setdefault(found.text, found._replace(path=before.path(int(places[place])), paths=0))
                    counts[found.text] = known._replace(paths=known.paths + paths)
        self.made.notes += [_of_paths(found) for found in counts.values()]

    def _with_programs(self, survey: Survey) -> Survey:
        """The survey with what execve(2) sees of the files that gain their first x."""
        after = self.postures.on(survey)
        gains = survey.profiles.by_rest(lambda rest: rest.posture.kind is Kind.FILE and rest.program is None)
        gains &= survey.profiles.columns.mode & EXECUTE_BITS == 0
        executable = after.profiles.columns.mode & EXECUTE_BITS != 0
        places = np.flatnonzero(gains[survey.profile] & executable[after.profile]).tolist()
        return _with_programs(self.host, survey, places) if places else survey


def _of_paths(found: Finding) -> Finding:
    where = visible(found.path) if found.paths == 1 else f"{found.paths:,} paths, such as {visible(found.path)}"
    return found._replace(text=f"{where}: {found.text}")


def _with_programs(host: Host, survey: Survey, places: Iterable[int]) -> Survey:
    """``survey`` with what execve(2) sees of the files at ``places``, which are looked at for that."""
    profiles, profile = survey.profiles.copy(), survey.profile.copy()
    numbers: dict[tuple[int, Program], int] = {}
    handles = Handles(host)
    try:
        for place, path in survey.paths_of(list(places)):
            try:
                node = handles.open(path)
                try:
                    program = node.program()
                finally:
                    node.close()
            except OSError:
                continue  # it has gone, or may not be read: taken for a program, as elsewhere
            number = int(profile[place])
            if (number, program) not in numbers:
                numbers[number, program] = profiles.append(profiles[number]._replace(program=program))
            profile[place] = numbers[number, program]
    finally:
        handles.close()
    return survey.with_profiles(profiles, profile)
