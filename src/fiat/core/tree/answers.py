"""Who has which right on everything in a tree.

The set of principals that reach what is in a directory is the set that
reaches the directory, cut by those who may traverse it. What an object decides
is worked out once for each distinct pair of such a set and a profile; what
the directory that holds its name decides, once for each profile of a
directory and what counts there of an object.
"""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model import right as rights_
from fiat.core.model.host import Host
from fiat.core.model.mode import EXECUTE, SPECIAL, STICKY
from fiat.core.model.posture import Object
from fiat.core.model.program import Format, Program
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.tree.profile import Profile
from fiat.core.tree.survey import Numbers, Survey
from fiat.core.tree.walk import interpreter_of

AnswerKey = tuple[int | None, ...]
"""For each right asked: the set of principals that have it, or None where it does not apply."""


class _Rule(NamedTuple):
    """What decides one right on objects that are alike but for owners and permissions.

    Those have it who are among ``allowed`` and have each of the permissions in
    ``wants``. With ``in_full`` every check is asked for each profile;
    ``as_program`` it must also be reached as the program that is run.
    """

    allowed: int = -1
    wants: tuple[int, ...] = ()
    in_full: bool = False
    as_program: bool = False


_OF_PERMISSIONS = (
    rights_.READ,
    rights_.WRITE,
    rights_.EXECUTE,
    rights_.TRAVERSE,
    rights_.LIST,
    rights_.APPEND,
    rights_.CREATE,
)
"""Rights that the permissions of an entry decide, beside conditions that are the same for all of its kind and mount.

The others of an object depend on its owner, its group and its special bits alone.
"""


class Reach(NamedTuple):
    """Who reaches a place: as they are, and as the programs that they run (execve(2) takes capabilities away)."""

    principals: int
    programs: int


class Reached(NamedTuple):
    """For each directory of a survey the number of who reaches what is in it, into ``sets``; -1 for anything else."""

    number: Numbers
    sets: list[Reach]


class Answers(NamedTuple):
    """The number of the answer of each entry that was asked about, into ``keys``."""

    number: Numbers
    keys: list[AnswerKey]


class TreeAccess:
    """Access in trees for one universe on one host; remembers what it has worked out of each profile."""

    def __init__(self, host: Host, access: Access, rights: Sequence[Right]) -> None:
        self.access = access
        self.rights = tuple(rights)
        self._host = host
        programs = access.universe.after_exec()
        self._programs = access if programs is access.universe else Access(programs, host.settings)
        self._runs_with: dict[Program, Route | None] = {}
        self._rules: dict[tuple[object, ...], list[tuple[int, Right, _Rule]]] = {}
        self._by_owner = [
            (place, right)
            for place, right in enumerate(self.rights)
            if right.by_object and right not in _OF_PERMISSIONS
        ]
        self._of_owners: dict[tuple[object, ...], list[tuple[int, int]]] = {}
        self._nothing: list[int | None] = [None] * len(self.rights)
        self._by_name = [place for place, right in enumerate(self.rights) if right.by_name]

    @property
    def interpreters(self) -> list[Route]:
        """The routes to the interpreters and loaders that were walked for the answers."""
        return [route for route in self._runs_with.values() if route is not None]

    def reach(self, route: Route) -> Reach:
        """Who can walk all of ``route``."""
        everyone = self.access.reach(route)
        return Reach(everyone, everyone if self._programs is self.access else self._programs.reach(route))

    def answers(
        self, survey: Survey, top: Route, places: NDArray[np.intp] | None = None, reached: Reached | None = None
    ) -> Answers:
        """The answer for each entry, or for those at ``places``, in the tree whose top is at the end of ``top``.

        ``reached`` is what :meth:`reached` says of it, where that is known already.
        """
        reach = self.reach(top)
        reached = reached or self.reached(survey, reach)
        places = np.arange(len(survey)) if places is None else places
        inner = places[places > 0]
        numbers: dict[AnswerKey, int] = {}
        found = np.zeros(len(places), np.int32)
        if len(inner) < len(places):
            found[: len(places) - len(inner)] = numbers.setdefault(self._of_top(survey, top, reach), len(numbers))
        if len(inner):
            found[len(places) - len(inner) :] = self._of_inner(survey, reached, inner, numbers)
        return Answers(found, list(numbers))

    def reached(self, survey: Survey, reach: Reach) -> Reached:
        """Who gets into each directory, where those in ``reach`` come as far as the top."""
        inside = np.full(len(survey), -1, np.int32)
        numbers: dict[Reach, int] = {}
        sets: list[Reach] = []
        profiles = survey.profiles

        def entering(before: Reach, directory: Profile) -> int:
            after = Reach(
                before.principals & self.access.decisions.of(directory.posture).allowed(EXECUTE),
                before.programs & self._programs.decisions.of(directory.posture).allowed(EXECUTE),
            )
            number = numbers.setdefault(after, len(numbers))
            if number == len(sets):
                sets.append(after)
            return number

        for depth, level in enumerate(survey.levels()):
            if not depth:
                inside[0] = entering(reach, profiles[survey.profile[0]])
                continue
            key = inside[survey.parent[level]].astype(np.int64) * len(profiles) + survey.profile[level]
            distinct, places = distinct_values(key)
            chosen = np.empty(len(distinct), np.int32)
            for place, value in enumerate(distinct.tolist()):
                number, rest = divmod(value, len(profiles))
                chosen[place] = entering(sets[number], profiles[rest])
            inside[level] = chosen[places]
        return Reached(inside, sets)

    # --- one entry, and many ---

    def _of_top(self, survey: Survey, top: Route, reach: Reach) -> AnswerKey:
        profile = survey.profiles[int(survey.profile[0])]
        key = self._by_object(profile, reach)
        return self._and(key, self._names(top.parent, profile.at(survey.top.path)))

    def _of_inner(
        self, survey: Survey, reached: Reached, inner: NDArray[np.intp], numbers: dict[AnswerKey, int]
    ) -> Numbers:
        """The numbers of the answers of entries that have a directory above them in the survey."""
        profiles, count = survey.profiles, len(survey.profiles)
        parent, profile = survey.parent[inner], survey.profile[inner]
        key = reached.number[parent].astype(np.int64) * count + profile
        distinct, places = distinct_values(key)
        by_object = [
            self._by_object(profiles[value % count], reached.sets[value // count]) for value in distinct.tolist()
        ]
        if not self._by_name:
            chosen = [numbers.setdefault(one, len(numbers)) for one in by_object]
            return np.array(chosen, np.int32)[places]
        name_keys, name_places = self._of_names(survey, parent, profile)
        pairs, both = distinct_values(places.astype(np.int64) * len(name_keys) + name_places)
        chosen = []
        for value in pairs.tolist():
            one, other = divmod(value, len(name_keys))
            chosen.append(numbers.setdefault(self._and(by_object[one], name_keys[other]), len(numbers)))
        return np.array(chosen, np.int32)[both]

    def _of_names(self, survey: Survey, parent: Numbers, profile: Numbers) -> tuple[list[tuple[int, ...]], Numbers]:
        """What directories say of the names in them: the distinct answers, and the number of that for each entry.

        Of what a name leads to only that counts which the checks for names
        look at, and its owner only where the directory is sticky.
        """
        profiles = survey.profiles
        confined = self.access.universe.confined
        classes: dict[tuple[object, ...], int] = {}
        examples: list[Profile] = []

        def numbered(one: Profile, *, owner: bool) -> int:
            posture = one.posture
            flags = None if posture.flags is None else tuple(posture.flags)
            kind = (posture.kind, posture.uid, posture.gid if confined else 0) if owner else posture.directory
            found = classes.setdefault((kind, flags, one.mount_point), len(classes))
            if found == len(examples):
                examples.append(one)
            return found

        plain = np.fromiter((numbered(one, owner=False) for one in profiles), np.int32, len(profiles))
        sticky = np.fromiter((bool(one.posture.mode & STICKY) for one in profiles), np.bool_, len(profiles))
        above = survey.profile[parent]
        kind = plain[profile]
        if sticky.any():
            owned = np.fromiter((numbered(one, owner=True) for one in profiles), np.int32, len(profiles))
            kind = np.where(sticky[above], owned[profile], kind)
        distinct, places = distinct_values(above.astype(np.int64) * len(examples) + kind)
        found = []
        for value in distinct.tolist():
            holder, named = divmod(value, len(examples))
            found.append(self._names(profiles[holder].at(), examples[named].at()))
        return found, places

    def _names(self, parent: Object | None, named: Object) -> tuple[int, ...]:
        """For each right that a directory decides: who has it, as far as the directory is concerned."""
        access = self.access
        return tuple(access.passing(access.name_checks(parent, named, self.rights[place])) for place in self._by_name)

    def _and(self, key: AnswerKey, by_name: tuple[int, ...]) -> AnswerKey:
        """An answer of objects cut by one of names."""
        found = list(key)
        for place, bits in zip(self._by_name, by_name, strict=True):
            so_far = found[place]
            found[place] = None if so_far is None else so_far & bits
        return tuple(found)

    def _by_object(self, profile: Profile, reach: Reach) -> AnswerKey:
        """Who has each right, as far as the object itself is concerned, among those that get there."""
        posture = profile.posture
        held = posture.capabilities if self.access.universe.limited else None
        key = (posture.kind.value, posture.flags, profile.mount, profile.program, held)
        rules = self._rules.get(key)
        if rules is None:
            rules = self._rules[key] = [
                (place, right, self._rule(profile, right))
                for place, right in enumerate(self.rights)
                if right.applies(posture.kind) and (place, right) not in self._by_owner
            ]
        allowed = self.access.decisions.of(posture).allowed
        answer = self._nothing.copy()
        reaching = reach.principals
        for place, bits in self._of_owner(profile):
            answer[place] = reaching & bits
        for place, right, (among, wants, in_full, as_program) in rules:
            bits = reaching & among
            for want in wants:
                bits &= allowed(want)
            if in_full:
                bits &= self._in_full(profile, right)
            if as_program:
                bits &= reach.programs
            answer[place] = bits
        return tuple(answer)

    def _rule(self, profile: Profile, right: Right) -> _Rule:
        if not right.by_object:
            return _Rule()
        program = profile.program if right is rights_.EXECUTE else None
        script = program is not None and program.format is Format.SCRIPT
        bounded = self.access.universe.limited and profile.posture.capabilities is not None
        if program is not None and (bounded or self._programs is not self.access):
            # a process may have other powers where it reads a script, and limits that others have not
            return _Rule(in_full=True, as_program=script)
        entry = profile.at()
        route = Route("", (), entry, interpreter=self._interpreter(profile, right))
        bits, wants = self.access.universe.everyone, []
        for check in self.access.object_checks(route, entry, right):
            if check.object is entry and check.want:
                wants.append(check.want)
            else:  # another object's, or one of the conditions
                bits &= check.passers
        return _Rule(allowed=bits, wants=tuple(dict.fromkeys(wants)), as_program=script)

    def _in_full(self, profile: Profile, right: Right) -> int:
        """Every check, asked for just this profile."""
        entry = profile.at()
        route = Route("", (), entry, interpreter=self._interpreter(profile, right))
        return self.access.passing(self.access.object_checks(route, entry, right))

    def _of_owner(self, profile: Profile) -> list[tuple[int, int]]:
        """Who has the rights that depend on owner, group and special bits; each by its place among the rights."""
        if not self._by_owner:
            return []
        posture = profile.posture
        special = 0 if posture.directory else posture.mode & (SPECIAL | 0o010)
        key = (posture.kind.value, posture.uid, posture.gid, special, posture.flags, profile.mount)
        found = self._of_owners.get(key)
        if found is None:
            found = self._of_owners[key] = [
                (place, self._in_full(profile, right)) for place, right in self._by_owner if right.applies(posture.kind)
            ]
        return found

    def _interpreter(self, profile: Profile, right: Right) -> Route | None:
        if right is not rights_.EXECUTE or profile.program is None:
            return None
        return self.runs_with(profile.program)

    def runs_with(self, program: Program) -> Route | None:
        """The route to the interpreter or the loader of ``program`` on this host."""
        if program not in self._runs_with:
            self._runs_with[program] = interpreter_of(self._host, program)
        return self._runs_with[program]


def distinct_values(values: NDArray[np.int64]) -> tuple[NDArray[np.int64], Numbers]:
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
