"""Counting: over the changed objects, and what lies under them, who gains and who loses by a plan."""

import errno
from collections.abc import Iterable, Iterator

import numpy as np

from fiat.core.ask import caveats, treeeffects
from fiat.core.ask.remarks import unreadable_script
from fiat.core.ask.treecaveats import first_of_each_kind
from fiat.core.ask.treeeffects import Asker, Pair, View
from fiat.core.ask.who import universe_of
from fiat.core.change.plan import Plan, PlanPart, Surveys
from fiat.core.change.steps import Change
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.posture import Kind, Program
from fiat.core.model.route import lies_under
from fiat.core.rules.decision import Decisions
from fiat.core.rules.difference import ChangeReach, reach_below
from fiat.core.text import visible
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.distinct import distinct_values, each_once, first_places
from fiat.core.tree.reading import survey_at
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent, Handles, walk


def count_effects(host: Host, made: Plan, progress: Progress, surveys: Surveys, most: int | None) -> None:
    """Put into a plan who gains and who loses by it, with what is to be known of that.

    What lies under changed directories is read where it counts, and kept in ``surveys``; of each about ``most``
    entries, where that is given. Raises KeyboardInterrupt where the reading was stopped.
    """
    _Counting(host, made, progress, surveys, most).count()


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

    def _changes_shared(self, part: PlanPart) -> bool:
        """Whether something with several names changes."""
        survey, number = part.target.survey, part.number
        places = np.flatnonzero((survey.links > 1) & ~survey.directories() & (number >= 0))
        return any(self.made.changes[one].change.changes for one in each_once(number[places]))

    def count(self) -> None:
        made = self.made
        pairs = list(self._pairs())
        changed = [(planned.change.before, planned.change.after) for planned in made.changes if planned.change.changes]
        universe = treeeffects.universe_for(self.host, changed, pairs)
        asking = Asker(self.host, self.after, (universe, universe))
        made.effects = treeeffects.effects(asking, pairs)
        for route in (*asking.before.interpreters, *asking.after.interpreters):
            made.caveats += caveats.of_route(route)

    def _pairs(self) -> Iterator[Pair]:
        """Everything that may be affected, each entry once: what changes, and what lies under it where that counts."""
        parts = sorted(self.made.parts, key=lambda part: (part.target.survey.top.path, -len(part.target.survey)))
        tops = [part.target.survey.top.path for part in parts]
        covered: list[Survey] = []
        for part, top in zip(parts, tops, strict=True):
            if any(survey.reaches(top) for survey in covered):
                continue
            survey = part.target.survey
            if not part.target.with_tree:
                if self._change_of_top(part) is None:
                    continue
                extent = self._extent_under(part)
                if extent is not None and any(lies_under(other, top) and other != top for other in tops):
                    extent = Extent(entry_limit=self.most)  # so that nothing is counted twice
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

    def _change_of_top(self, part: PlanPart) -> Change | None:
        """The change of the top of a target, if it makes a difference."""
        if part.number[0] < 0:
            return None
        change = self.made.changes[int(part.number[0])].change
        return change if change.changes else None

    def _extent_under(self, part: PlanPart) -> Extent | None:
        """How much of what is under a changed directory can be affected; None where nothing can."""
        change = self._change_of_top(part)
        if change is None or not change.after.directory:
            return None
        if self.shared:
            return Extent(entry_limit=self.most)  # another name of what changes may lie anywhere under it
        universe = universe_of(self.host.accounts, [change.before, change.after])
        reach = reach_below(Decisions(universe), change.before, change.after)
        if reach is ChangeReach.NOTHING:
            return None
        return Extent(one_level=reach is ChangeReach.ITS_NAMES, entry_limit=self.most)

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
        if not places:
            return survey
        found, unread = _with_programs(self.host, survey, places)
        self.made.caveats += caveats.of_unread_programs(unread)
        return found


def _of_paths(found: Finding) -> Finding:
    where = visible(found.path) if found.paths == 1 else f"{found.paths:,} paths, such as {visible(found.path)}"
    return found._replace(text=f"{where}: {found.text}")


def _with_programs(host: Host, survey: Survey, places: Iterable[int]) -> tuple[Survey, list[str]]:
    """``survey`` with what execve(2) sees of the files at ``places``, which are looked at for that; and the paths of
    those that may not be read."""
    unread: list[str] = []
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
            except OSError as error:  # it has gone, or may not be read: taken for a program, as elsewhere
                unread += [path] if error.errno in (errno.EACCES, errno.EPERM) else []
                continue
            number = int(profile[place])
            if (number, program) not in numbers:
                numbers[number, program] = profiles.append(profiles[number]._replace(program=program))
            profile[place] = numbers[number, program]
    finally:
        handles.close()
    return survey.with_profiles(profiles, profile), unread
