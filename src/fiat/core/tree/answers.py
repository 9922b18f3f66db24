"""Who has which right on everything in a tree.

The set of principals that reach what is in a directory is the set that
reaches the directory, cut by those who may traverse it. What an object decides
is worked out once for each distinct pair of such a set and a profile; what
the directory that holds its name decides, once for each profile of a
directory and what counts there of an object. Sets go by their numbers: many
are cut by one another at once.
"""

from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model import right as rights_
from fiat.core.model.host import Host
from fiat.core.model.idmap import UNMAPPED
from fiat.core.model.mode import EXECUTE, SPECIAL, STICKY
from fiat.core.model.posture import Format, Object, Program
from fiat.core.model.principals import Universe
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.checks import Check
from fiat.core.tree.answerkeys import AnswerKeys, Answers, settled
from fiat.core.tree.distinct import distinct_columns, distinct_values
from fiat.core.tree.profile import Profile
from fiat.core.tree.profiles import Profiles
from fiat.core.tree.setrows import Crowd, DecisionsOfMany, Numbers, SetTable, crowd, together
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import interpreter_of


class Conditions(NamedTuple):
    """Those have the right who are among ``allowed`` and have each of the permissions in ``wants``.

    With ``in_full`` every check is asked for each profile; ``as_program`` it
    must also be reached as the program that is run.
    """

    allowed: int = -1
    wants: tuple[int, ...] = ()
    in_full: bool = False
    as_program: bool = False


def conditions(checks: Iterable[Check], of: Object, everyone: int, *, as_program: bool = False) -> Conditions:
    """What ``checks`` come to, where only the permissions of ``of`` are other ones on what is like it."""
    allowed, wants = everyone, []
    for check in checks:
        if check.object is of and check.want:
            wants.append(check.want)
        else:  # another object's, or the same for all that are like it
            allowed &= check.passers
    return Conditions(allowed, tuple(dict.fromkeys(wants)), as_program=as_program)


class Reach(NamedTuple):
    """Who reaches a place: as they are, and as the programs that they run (execve(2) takes capabilities away)."""

    principals: int
    programs: int


class Reached:
    """For each directory of a survey the ``number`` of who reaches what is in it; -1 for anything else.

    ``top`` is the number of who reaches the top itself.
    """

    def __init__(self, number: Numbers, top: int, reaches: "Reaches") -> None:
        self.number = number
        self.top = top
        self.sets = reaches


class Reaches:
    """The distinct reaches, by number."""

    def __init__(self, table: SetTable) -> None:
        self._table = table
        self._known: dict[tuple[int, int], int] = {}
        self.principals = np.zeros(0, np.int32)
        self.programs = np.zeros(0, np.int32)

    def __len__(self) -> int:
        return len(self._known)

    def __getitem__(self, number: int) -> Reach:
        return Reach(self._table[int(self.principals[number])], self._table[int(self.programs[number])])

    def numbers(self, principals: Numbers, programs: Numbers) -> Numbers:
        """The numbers of reaches, given by those of their sets."""
        known = self._known
        pairs = zip(principals.tolist(), programs.tolist(), strict=True)
        found = [known.setdefault(pair, len(known)) for pair in pairs]
        self.principals, self.programs = np.array(list(known), np.int32).reshape(-1, 2).T
        return np.array(found, np.int32)


class TreeAccess:
    """Access in trees for one universe on one host; remembers what it has worked out of each profile.

    Where the universe is that of a crowd, the answers are about all the ``people`` in it.
    """

    def __init__(self, host: Host, access: Access, rights: Sequence[Right], people: Crowd | None = None) -> None:
        self.access = access
        self.rights = tuple(rights)
        self._host = host
        programs = access.universe.after_exec()
        self._programs = access if programs is access.universe else Access(programs, host.settings)
        self.table = SetTable(len(access.universe.principals), people)
        self._runs_with: dict[Program, Route | None] = {}
        self._conditions: dict[Hashable, tuple[tuple[int, Right, Conditions], ...]] = {}
        # of an object these depend on its owner, its group and its special bits alone; the others on what an entry
        # permits, beside conditions that are the same for all of its kind and mount
        self._by_owner = [
            (place, right) for place, right in enumerate(self.rights) if right.by_object and not right.permission
        ]
        self._by_name = [place for place, right in enumerate(self.rights) if right.by_name]
        self._decisions: list[DecisionsOfMany] = []

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
        reached = reached or self.reached(survey, self.reach(top))
        parent, profile = survey.parent, survey.profile
        if places is not None:
            parent, profile = parent[places], profile[places]
        count = len(survey.profiles)
        arriving = np.where(parent < 0, reached.top, reached.number[np.maximum(parent, 0)])
        distinct, number = distinct_values(arriving.astype(np.int64) * count + profile)
        found = self._of_objects(survey.profiles, distinct % count, reached.sets, distinct // count)
        if self._by_name:
            names, said = self._of_names(survey, top, parent, profile)
            pairs, number = distinct_values(number.astype(np.int64) * len(names) + said)
            found = found[pairs // len(names)]
            for column, place in enumerate(self._by_name):
                found[:, place] = self.table.both(found[:, place], names[pairs % len(names), column])
        first, same = distinct_columns(*found.T)
        answers = Answers(same.astype(np.int32)[number], AnswerKeys(self.table, found[first]))
        crowd = self.table.crowd
        return answers if crowd is None or not crowd.more else settled(crowd, answers)

    def reached(self, survey: Survey, reach: Reach) -> Reached:
        """Who gets into each directory, where those in ``reach`` come as far as the top."""
        table, profiles = self.table, survey.profiles
        reaches = Reaches(table)
        inside = np.full(len(survey), -1, np.int32)
        top = reaches.numbers(*(np.array([table.number(bits)], np.int32) for bits in reach))
        apart = self._programs is not self.access
        for depth, level in enumerate(survey.levels()):
            arriving = inside[survey.parent[level]] if depth else top
            key = arriving.astype(np.int64) * len(profiles) + survey.profile[level]
            distinct, places = distinct_values(key)
            before, profile = distinct // len(profiles), distinct % len(profiles)
            enters = self._entering(profiles, self.access, profile)
            principals = programs = table.both(reaches.principals[before], enters)
            if apart:
                enters = self._entering(profiles, self._programs, profile)
                programs = table.both(reaches.programs[before], enters)
            inside[level] = reaches.numbers(principals, programs)[places]
        return Reached(inside, int(top[0]), reaches)

    def _entering(self, profiles: Profiles, access: Access, numbers: NDArray[np.intp]) -> NDArray[np.int32]:
        """For each of these profiles the set of principals that may traverse it."""
        found = self._decided(profiles, access).allowed(EXECUTE, numbers)
        if any(rest.refused_below for rest in profiles.rests):
            shut = profiles.by_rest(lambda rest: any(one & EXECUTE for one, _ in rest.refused_below))[numbers]
            found = np.where(shut, np.int32(self.table.number(0)), found)
        if any(rest.mount is not None and rest.mount.lets_in is not None for rest in profiles.rests):
            found = self.table.both(found, profiles.by_rest(self._let_in, np.int32)[numbers])
        return found

    def _let_in(self, rest: Profile) -> int:
        """The number of the set of principals whom the mount lets in."""
        lets_in = rest.mount.lets_in if rest.mount is not None else None
        universe = self.access.universe
        return self.table.number(universe.everyone if lets_in is None else universe.only_of(*lets_in))

    def _decided(self, profiles: Profiles, access: Access) -> DecisionsOfMany:
        """What profiles decide; remembered for those that were asked about last."""
        for known in self._decisions:
            if known.profiles is profiles and known.universe is access.universe:
                return known
        self._decisions = [one for one in self._decisions if one.profiles is profiles]
        self._decisions.append(DecisionsOfMany(profiles, access.universe, self.table))
        return self._decisions[-1]

    # --- what objects decide ---

    def _of_objects(
        self, profiles: Profiles, which: NDArray[np.int64], reaches: Reaches, reach: NDArray[np.int64]
    ) -> Numbers:
        """Who has each right, as far as the object itself is concerned: a row for each profile with who gets there."""
        table = self.table
        found = np.full((len(which), len(self.rights)), -1, np.int32)
        alike: dict[tuple[tuple[int, Right, Conditions], ...], int] = {}
        kinds = profiles.by_rest(lambda rest: alike.setdefault(self._of_rest(rest), len(alike)), np.int32)[which]
        for kind, decide in enumerate(alike):
            some = np.flatnonzero(kinds == kind)
            if not len(some):
                continue
            theirs = which[some]
            for place, right, (among, wants, in_full, as_program) in decide:
                bits = reaches.principals[reach[some]]
                if among != self.access.universe.everyone and among != -1:
                    bits = table.both(bits, np.full(len(bits), table.number(among), np.int32))
                for want in wants:
                    bits = table.both(bits, self._decided(profiles, self.access).allowed(want, theirs))
                if in_full:
                    bits = table.both(bits, self._in_full_each(profiles, theirs, right))
                if as_program:
                    bits = table.both(bits, reaches.programs[reach[some]])
                found[some, place] = bits
        if self._by_owner:
            self._of_owners(profiles, which, reaches.principals[reach], found)
        return found

    def _of_rest(self, rest: Profile) -> tuple[tuple[int, Right, Conditions], ...]:
        """What decides the rights, but those of owners, on what has this rest; each by its place among the rights."""
        held = rest.posture.capabilities if self.access.universe.limited else None
        key = (rest.posture.kind.value, rest.posture.flags, rest.mount, rest.program, held, rest.refused_below)
        found = self._conditions.get(key)
        if found is None:
            found = self._conditions[key] = tuple(
                (place, right, self._decides(rest, right))
                for place, right in enumerate(self.rights)
                if right.applies(rest.posture.kind) and (place, right) not in self._by_owner
            )
        return found

    def _decides(self, rest: Profile, right: Right) -> Conditions:
        if not right.by_object:
            return Conditions()
        program = rest.program if right is rights_.EXECUTE else None
        script = program is not None and program.format is Format.SCRIPT
        bounded = self.access.universe.limited and rest.posture.capabilities is not None
        if program is not None and (bounded or self._programs is not self.access):
            # a process may have other powers where it reads a script, and limits that others have not
            return Conditions(in_full=True, as_program=script)
        entry = rest.at()
        route = Route("", (), entry, interpreter=self._interpreter(rest, right))
        checks = self.access.object_checks(route, entry, right)
        return conditions(checks, entry, self.access.universe.everyone, as_program=script)

    def _in_full(self, profile: Profile, right: Right) -> int:
        """Every check, asked for just this profile."""
        entry = profile.at()
        route = Route("", (), entry, interpreter=self._interpreter(profile, right))
        return self.access.passing(self.access.object_checks(route, entry, right))

    def _in_full_each(self, profiles: Profiles, which: NDArray[np.int64], right: Right) -> Numbers:
        distinct, places = distinct_values(which)
        return self.table.numbers_of(self._in_full(profiles[number], right) for number in distinct.tolist())[places]

    def _of_owners(self, profiles: Profiles, which: NDArray[np.int64], reach: Numbers, found: Numbers) -> None:
        """Who has the rights that depend on owner, group and special bits alone."""
        kinds: dict[Hashable, int] = {}

        def numbered(rest: Profile) -> int:
            return kinds.setdefault((rest.posture.kind, rest.posture.flags, rest.mount), len(kinds))

        columns = profiles.columns
        special = columns.mode & (SPECIAL | 0o010)
        special[profiles.by_rest(lambda rest: rest.posture.directory)] = 0
        kind = profiles.by_rest(numbered, np.int64)
        first, places = distinct_columns(kind[which], columns.uid[which], columns.gid[which], special[which])
        examples = [profiles[number] for number in which[first].tolist()]
        for place, right in self._by_owner:
            applies = np.array([right.applies(one.posture.kind) for one in examples], np.bool_)
            numbers = np.full(len(examples), -1, np.int32)
            numbers[applies] = self.table.numbers_of(
                self._in_full(one, right) for one in examples if right.applies(one.posture.kind)
            )
            theirs = numbers[places]
            some = theirs >= 0
            found[some, place] = self.table.both(reach[some], theirs[some])

    def _interpreter(self, profile: Profile, right: Right) -> Route | None:
        if right is not rights_.EXECUTE or profile.program is None:
            return None
        return self.runs_with(profile.program)

    def runs_with(self, program: Program) -> Route | None:
        """The route to the interpreter or the loader of ``program`` on this host."""
        if program not in self._runs_with:
            self._runs_with[program] = interpreter_of(self._host, program)
        return self._runs_with[program]

    def runs_with_known(self, routes: Mapping[Program, Route | None]) -> None:
        """Take the routes that were walked already."""
        self._runs_with.update(routes)

    # --- what directories decide ---

    def _of_names(self, survey: Survey, top: Route, parent: Numbers, profile: Numbers) -> tuple[Numbers, Numbers]:
        """What directories say of the names in them: rows of sets, and for each entry the number of its row.

        Of what a name leads to only that counts which the checks for names
        look at, and its owner only where the directory is sticky.
        """
        profiles = survey.profiles
        named = _Named(profiles, owned=False)
        above = survey.profile[np.maximum(parent, 0)].astype(np.int64)
        kind = named.kind[profile]
        sticky = (profiles.columns.mode & STICKY != 0)[above]
        owned = _Named(profiles, owned=True, group=bool(self.access.universe.confined))
        kind = np.where(sticky, owned.kind[profile] + len(named.examples), kind)
        examples = named.examples + owned.examples
        inner = parent >= 0
        distinct, places = distinct_values(np.where(inner, above * len(examples) + kind, -1) + 1)
        rows = np.full((len(distinct), len(self._by_name)), -1, np.int32)
        begin = int(len(distinct) > 0 and distinct[0] == 0)
        if begin:
            first = profiles[int(survey.profile[0])].at(survey.top.path)
            rows[0] = [self.table.number(bits) for bits in self._names(top.parent, first)]
        holders, kinds = np.divmod(distinct[begin:] - 1, max(len(examples), 1))
        rows[begin:] = self._of_holders(profiles, holders, kinds, examples)
        return rows, places

    def _of_holders(
        self, profiles: Profiles, holders: NDArray[np.int64], kinds: NDArray[np.int64], examples: list[int]
    ) -> Numbers:
        """For each directory with the kind of a name in it: who has the rights on the name, as far as it decides."""
        rows = np.full((len(holders), len(self._by_name)), -1, np.int32)
        alike: dict[Hashable, int] = {}
        held = profiles.by_rest(lambda rest: alike.setdefault(_of_holder(rest), len(alike)), np.int64)[holders]
        sticky = profiles.columns.mode[holders] & STICKY
        _, group = distinct_columns(held, sticky, kinds, unmapped(profiles)[holders].astype(np.int64))
        for some in together(group, len(group)):
            place = int(some[0])
            named = profiles[examples[int(kinds[place])]].at()
            if sticky[place]:  # the owners count, of the directory and of what is in it
                for one in some.tolist():
                    bits = self._names(profiles[int(holders[one])].at(), named)
                    rows[one] = [self.table.number(each) for each in bits]
                continue
            holder = profiles[int(holders[place])].at()
            for column, right_place in enumerate(self._by_name):
                checks = self.access.name_checks(holder, named, self.rights[right_place])
                among, wants, _, _ = conditions(checks, holder, self.access.universe.everyone)
                having = np.full(len(some), self.table.number(among), np.int32)
                for want in wants:
                    allowed = self._decided(profiles, self.access).allowed(want, holders[some])
                    having = self.table.both(having, allowed)
                rows[some, column] = having
        return rows

    def _names(self, parent: Object | None, named: Object) -> tuple[int, ...]:
        """For each right that a directory decides: who has it, as far as the directory is concerned."""
        access = self.access
        return tuple(access.passing(access.name_checks(parent, named, self.rights[place])) for place in self._by_name)


def for_tree(host: Host, universe: Universe, rights: Sequence[Right], route: Route, survey: Survey) -> TreeAccess:
    """Access in one tree, at the end of ``route``, asked of as few principals as there are different ones."""
    programs = dict.fromkeys(rest.program for rest in survey.profiles.rests if rest.program is not None)
    runs_with = {program: interpreter_of(host, program) for program in programs}
    uids, gids = survey.profiles.owners()
    for found in (one for walked in (route, *runs_with.values()) for one in _all_walked(walked)):
        owning, sharing = found.posture.owners()
        uids |= owning
        gids |= sharing
    mounts = {*(rest.mount for rest in survey.profiles.rests), *(one.mount for one in route.objects)}
    maps = dict.fromkeys(mount.id_map for mount in mounts if mount is not None and mount.id_map is not None)
    let_in = dict.fromkeys(mount.lets_in for mount in mounts if mount is not None and mount.lets_in is not None)
    apart = [*map(universe.mapped, maps), *(universe.only_of(*one) for one in let_in)]
    people = crowd(universe, uids, gids, apart)
    access = TreeAccess(host, Access(people.universe, host.settings), rights, people)
    access.runs_with_known(runs_with)
    return access


def _all_walked(route: Route | None) -> Iterator[Object]:
    """Everything that is walked for the end, and for what runs it, and for what runs that."""
    while route is not None:
        yield from route.objects
        route = route.interpreter


def _of_holder(rest: Profile) -> Hashable:
    """What of a directory the checks for names look at, beside its owners and permissions."""
    return rest.posture.kind, rest.posture.flags, rest.mount, rest.mount_point, rest.refused_below


def unmapped(profiles: Profiles) -> NDArray[np.bool_]:
    """For each profile whether its owner or its group has no number on the mount by which it is seen."""
    columns = profiles.columns
    found: NDArray[np.bool_] = (columns.uid == UNMAPPED) | (columns.gid == UNMAPPED)
    return found


class _Named:
    """What profiles are to the directory that holds their names: a number for each, and a profile for each number."""

    def __init__(self, profiles: Profiles, *, owned: bool, group: bool = False) -> None:
        numbers: dict[Hashable, int] = {}

        def numbered(rest: Profile) -> int:
            posture = rest.posture
            kind: object = posture.kind if owned else posture.directory
            return numbers.setdefault((kind, posture.flags, rest.mount_point, rest.stays), len(numbers))

        columns = profiles.columns
        rest = profiles.by_rest(numbered, np.int64)
        owners = (columns.uid,) if owned else ()
        groups = (columns.gid,) if owned and group else ()
        without = (unmapped(profiles).astype(np.int64),)
        first, self.kind = distinct_columns(rest, *owners, *groups, *without)
        self.examples: list[int] = first.tolist()
