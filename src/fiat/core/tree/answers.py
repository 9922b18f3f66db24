"""Who has which right on everything in a tree.

The set of principals that reach what is in a directory is the set that
reaches the directory, cut by those who may traverse it. Rights are worked out
once for each distinct pair of such a set and a sort.
"""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.host import Host
from fiat.core.model.mode import EXECUTE
from fiat.core.model.posture import Mount
from fiat.core.rules.access import RIGHTS, Access, applies
from fiat.core.tree.route import Route, Stage, walk
from fiat.core.tree.survey import Numbers, Sort, Survey, sort_of

AnswerKey = tuple[int | None, ...]
"""For each right asked: the set of principals that have it, or None where it does not apply."""

Conditions = tuple[tuple[int, tuple[int, ...]] | None, ...] | None
"""For each right: a set of principals, and the permissions that each of them needs besides, one entry for each.

None in the place of a right that does not apply; None for all where it is not so simple.
"""

_OF_PERMISSIONS = (*RIGHTS, "list")
"""Rights that the permissions of an entry decide, beside conditions that are the same for all of its kind and mount."""

_OF_THE_NAME = ("create", "delete", "rename")


class Reach(NamedTuple):
    """Who reaches a place: as they are, and as the programs that they run (execve(2) takes capabilities away)."""

    principals: int
    programs: int


class Answers(NamedTuple):
    """For each entry of a survey the number of its answer, into ``keys``."""

    number: Numbers
    keys: list[AnswerKey]


class TreeAccess:
    """Access in trees for one universe; remembers what it has worked out of each sort."""

    def __init__(self, host: Host, access: Access, rights: Sequence[str]) -> None:
        self.access = access
        self.rights = tuple(rights)
        self._host = host
        programs = access.universe.after_exec()
        self._programs = access if programs is access.universe else Access(programs, host.settings)
        self._interpreters: dict[str, Route] = {}
        self._allowed: dict[tuple[Sort, Sort | None], AnswerKey] = {}
        self._conditions: dict[tuple[object, ...], Conditions] = {}
        self._mounts: list[Mount | None] = []
        self._needs_parent = any(right in _OF_THE_NAME for right in self.rights)
        self._only_permissions = all(right in _OF_PERMISSIONS for right in self.rights)

    def reach(self, route: Route) -> Reach:
        """Who can walk all of ``route``."""
        everyone = self.access.reach(route)
        return Reach(everyone, everyone if self._programs is self.access else self._programs.reach(route))

    def answers(
        self, survey: Survey, top: Route, reach: Reach, sorts: Sequence[Sort] = (), sort: Numbers | None = None
    ) -> Answers:
        """The answer for each entry, where those in ``reach`` come as far as the top, on the route ``top``.

        ``sorts`` and ``sort`` stand in for those of the survey, where entries
        are supposed to be of other sorts than they are.
        """
        sorts = sorts or survey.sorts
        sort = survey.sort if sort is None else sort
        count = len(sorts)
        inside, reaches = self._inside(survey, reach, sorts, sort)
        numbers: dict[AnswerKey, int] = {}
        above = next((stage.object for stage in reversed(top.stages) if stage.object.posture.directory), None)
        first = self._cut(self._of_sort(sorts[sort[0]], above and sort_of(above)), sorts[sort[0]], reach)
        numbers[first] = 0
        found = np.zeros(len(survey), np.int32)
        if len(survey) > 1:
            parent = survey.parent[1:]
            key = inside[parent].astype(np.int64) * count + sort[1:]
            if self._needs_parent:
                key = key * count + sort[parent]
            distinct, places = _distinct(key)
            chosen = np.empty(len(distinct), np.int32)
            for place, value in enumerate(distinct.tolist()):
                holder = None
                if self._needs_parent:
                    value, rest = divmod(value, count)
                    holder = sorts[rest]
                number, rest = divmod(value, count)
                answer = self._cut(self._of_sort(sorts[rest], holder), sorts[rest], reaches[number])
                chosen[place] = numbers.setdefault(answer, len(numbers))
            found[1:] = chosen[places]
        return Answers(found, list(numbers))

    def _inside(
        self, survey: Survey, reach: Reach, sorts: Sequence[Sort], sort: Numbers
    ) -> tuple[Numbers, list[Reach]]:
        """For each directory the number of who reaches what is in it, and these sets."""
        inside = np.zeros(len(survey), np.int32)
        numbers: dict[Reach, int] = {}
        reaches: list[Reach] = []

        def entering(before: Reach, directory: Sort) -> int:
            after = Reach(
                before.principals & self.access.decisions.of(directory.posture).allowed(EXECUTE),
                before.programs & self._programs.decisions.of(directory.posture).allowed(EXECUTE),
            )
            number = numbers.setdefault(after, len(numbers))
            if number == len(reaches):
                reaches.append(after)
            return number

        for depth, level in enumerate(survey.levels()):
            if not depth:
                inside[0] = entering(reach, sorts[sort[0]])
                continue
            key = inside[survey.parent[level]].astype(np.int64) * len(sorts) + sort[level]
            distinct, places = _distinct(key)
            chosen = np.empty(len(distinct), np.int32)
            for place, value in enumerate(distinct.tolist()):
                number, rest = divmod(value, len(sorts))
                chosen[place] = entering(reaches[number], sorts[rest])
            inside[level] = chosen[places]
        return inside, reaches

    def _of_sort(self, sort: Sort, parent: Sort | None) -> AnswerKey:
        """Who has each right on an entry of ``sort``, among those that reach it."""
        conditions = self._conditions_of(sort) if self._only_permissions else None
        if conditions is None:
            return self._in_full(sort, parent if self._needs_parent else None)
        decision = self.access.decisions.of(sort.posture)
        answer: list[int | None] = []
        for condition in conditions:
            if condition is None:
                answer.append(None)
                continue
            bits, wants = condition
            for want in wants:
                bits &= decision.allowed(want)
            answer.append(bits)
        return tuple(answer)

    def _conditions_of(self, sort: Sort) -> Conditions:
        """What each right comes down to where only the permissions differ."""
        posture = sort.posture
        # a host makes one object for a mount, and comparing it whole would take longer than all the rest
        key = (posture.kind.name, posture.flags, id(sort.mount), sort.script)
        found = self._conditions.get(key)
        if found is None and key not in self._conditions:
            found = self._conditions[key] = self._work_out(sort)
            self._mounts.append(sort.mount)  # so that no other can come to have its id
        return found

    def _work_out(self, sort: Sort) -> Conditions:
        """The checks for an entry of ``sort``: what the others come to, and what is asked of its own classes."""
        entry = sort.at("")
        route = Route("", (), entry, interpreter=self._interpreter(sort))
        if sort.script is not None and self._programs is not self.access:
            return None  # it is read with other capabilities than it is started with
        found: list[tuple[int, tuple[int, ...]] | None] = []
        for right in self.rights:
            if not applies(right, sort.posture.kind):
                found.append(None)
                continue
            bits, wants = self.access.universe.everyone, []
            for check in self.access.checks(route, right):
                if check.object is entry and check.want:
                    wants.append(check.want)
                else:  # another object's, or one of the conditions
                    bits &= check.passers
            found.append((bits, tuple(dict.fromkeys(wants))))
        return tuple(found)

    def _interpreter(self, sort: Sort) -> Route | None:
        if sort.script is None or "execute" not in self.rights:
            return None
        found = self._interpreters.get(sort.script)
        if found is None:
            found = self._interpreters[sort.script] = walk(self._host, sort.script)
        return found

    def _in_full(self, sort: Sort, parent: Sort | None) -> AnswerKey:
        """Every check for every right, asked for just this sort and the sort of its directory."""
        key = (sort, parent)
        found = self._allowed.get(key)
        if found is None:
            stages = (Stage(parent.at("")),) if parent is not None else ()
            alone = Route("", (), sort.at(""), interpreter=self._interpreter(sort))
            named = alone._replace(stages=stages)
            kind = sort.posture.kind
            found = self._allowed[key] = tuple(
                self.access.allowed(named if right in _OF_THE_NAME else alone, right) if applies(right, kind) else None
                for right in self.rights
            )
        return found

    def _cut(self, allowed: AnswerKey, sort: Sort, reach: Reach) -> AnswerKey:
        """Only those who get there; a script is read by the program that it starts."""
        key = tuple(None if bits is None else bits & reach.principals for bits in allowed)
        if sort.script is not None and reach.programs != reach.principals and "execute" in self.rights:
            place = self.rights.index("execute")
            bits = key[place]
            if bits is not None:
                key = (*key[:place], bits & reach.programs, *key[place + 1 :])
        return key


def _distinct(values: NDArray[np.int64]) -> tuple[NDArray[np.int64], Numbers]:
    """The distinct values, and for each value its place among them."""
    if not len(values):
        return values, np.zeros(0, np.int32)
    most = int(values.max()) + 1
    if most > max(4 * len(values), 1 << 16):
        distinct, places = np.unique(values, return_inverse=True)
        return distinct, places.astype(np.int32)
    # few enough to count them off, which is faster than sorting
    seen = np.zeros(most, np.bool_)
    seen[values] = True
    distinct = np.flatnonzero(seen)
    number = np.zeros(most, np.int32)
    number[distinct] = np.arange(len(distinct), dtype=np.int32)
    return distinct, number[values]
