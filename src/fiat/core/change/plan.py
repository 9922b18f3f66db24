"""What a wish does to many paths: each one's change, the guards, and who gains and who loses which right."""

import errno
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.effects import Shift
from fiat.core.ask.who import universe_of_postures
from fiat.core.change import guards
from fiat.core.change import notes as note
from fiat.core.change.guards import GUARDS, Guard
from fiat.core.change.notes import Note
from fiat.core.change.wish import Wish, wanted
from fiat.core.errors import PathError
from fiat.core.model import principals
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.mode import EXECUTE
from fiat.core.model.posture import Kind, Posture
from fiat.core.rules import changing as edit
from fiat.core.rules.access import RIGHTS, Access
from fiat.core.rules.changing import Change
from fiat.core.tree import route as routes
from fiat.core.tree.answers import Answers, TreeAccess
from fiat.core.tree.below import Trouble
from fiat.core.tree.route import Route
from fiat.core.tree.survey import Numbers, Sort, Survey, alone

NOT_MEANT = -1
"""In the place of the number of a change: this entry is not to be changed."""


class Target(NamedTuple):
    """What is to be changed at the end of ``route``: of what was surveyed there the ``chosen`` entries."""

    asked: str
    route: Route
    survey: Survey
    chosen: NDArray[np.bool_]
    with_tree: bool


class Noted(NamedTuple):
    """A change with what is to be said of it; one for all entries of one sort."""

    change: Change
    notes: tuple[Note, ...] = ()
    guards: tuple[tuple[str, str], ...] = ()


class Item(NamedTuple):
    """One object and its change.

    ``inode`` is device and inode number, ``birth`` and ``links`` as in
    :class:`Status`. ``names`` are all its names where it has several and all
    are in the tree, and None where they are not, or nobody minds.
    """

    path: str
    inode: tuple[int, int]
    birth: int
    noted: Noted
    links: int = 1
    names: tuple[str, ...] | None = None

    @property
    def change(self) -> Change:
        """The change alone."""
        return self.noted.change


class Planned(NamedTuple):
    """The part of a plan that is one target's: for each entry the number of its change.

    ``write`` leaves out the further names of an inode that has several.
    """

    target: Target
    number: Numbers
    write: NDArray[np.bool_]


class Plan:
    """What a command would do, made before anything is written.

    ``troubles`` are places under a changed directory that could not be looked
    at: gains and losses there are not counted; ``skipped`` are mounts that
    were left out there.
    """

    def __init__(self, changes: list[Noted], parts: list[Planned]) -> None:
        self.changes = changes
        self.parts = parts
        self.guards: list[Guard] = []
        self.gains: tuple[Shift, ...] = ()
        self.losses: tuple[Shift, ...] = ()
        self.troubles: list[Trouble] = []
        self.skipped: list[str] = []

    def items(self) -> Iterator[Item]:
        """Everything that is meant, whether it changes or not, parents first."""
        for part in self.parts:
            yield from self._items(part, part.write)

    def refused(self) -> Iterator[Item]:
        """What the kernel would refuse to change."""
        refused = np.array([noted.change.errno != 0 for noted in self.changes] or [False], np.bool_)
        for part in self.parts:
            yield from self._items(part, part.write & refused[part.number])

    def _items(self, part: Planned, which: NDArray[np.bool_]) -> Iterator[Item]:
        for place, path in part.target.survey.paths_of(np.flatnonzero(which).tolist()):
            yield self._item(part, place, path)

    def to_write(self) -> list[Item]:
        """What is to be written, what is in a directory before the directory.

        So a change that takes away the way in does not stand in its own way.
        """
        found = []
        does = np.array([noted.change.changes for noted in self.changes] or [False], np.bool_)
        for part in self.parts:
            survey = part.target.survey
            several = _names_inside(survey)
            for place, path in survey.paths_of(
                np.flatnonzero(part.write & does[part.number] & (part.number >= 0)).tolist()
            ):
                item = self._item(part, place, path)
                names = several.get(item.inode, ()) if item.links > 1 else ()
                if 1 < item.links <= len(names):  # more than it has, where one was moved while the tree was read
                    item = item._replace(names=tuple(survey.path(other) for other in names))
                found.append(item)
        return found[::-1]

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
            numbers, firsts = np.unique(part.number[places], return_index=True)
            for number, first in zip(numbers.tolist(), places[firsts].tolist(), strict=True):
                if number not in found:
                    found[number] = part.target.survey.path(first)
        return found

    def _item(self, part: Planned, place: int, path: str) -> Item:
        survey = part.target.survey
        sort = survey.sorts[int(survey.sort[place])]
        inode = sort.device, int(survey.inode[place])
        links = 1 if sort.posture.directory else int(survey.links[place])
        return Item(path, inode, int(survey.birth[place]), self.changes[int(part.number[place])], links)


def make(
    host: Host, targets: Sequence[Target], wish: Wish, progress: Progress = no_progress, *, effects: bool = True
) -> Plan:
    """The plan for ``wish`` on ``targets``; without ``effects`` gains and losses are left out."""
    making = _Making(host, wish)
    made = Plan(making.changes, [])
    seen: set[tuple[int, int]] = set()
    done: list[Target] = []
    for target in sorted(targets, key=lambda target: (target.survey.top.path, -len(target.survey))):
        path = target.survey.top.path
        if any(other.with_tree and (path + "/").startswith(other.survey.top.path.rstrip("/") + "/") for other in done):
            continue  # it is in that tree, and meant there
        done.append(target)
        made.parts.append(making.part(target, seen))
    made.guards = _guards(made)
    if effects and any(noted.change.changes for noted in making.changes):
        _Effect(host, made, progress).count()
    return made


class _Making:
    """Makes the change for each sort once."""

    def __init__(self, host: Host, wish: Wish) -> None:
        self.host = host
        self.wish = wish
        self.actor = host.actor()
        self.changes: list[Noted] = []
        named = (*wish.access.entries, *wish.default.entries)
        self._asked = frozenset((one.entry.tag, one.entry.id) for one in named)

    def part(self, target: Target, seen: set[tuple[int, int]]) -> Planned:
        survey = target.survey
        numbers = np.full(len(survey.sorts), NOT_MEANT, np.int32)
        used = np.bincount(survey.sort[target.chosen], minlength=len(survey.sorts))
        for place in np.flatnonzero(used).tolist():
            numbers[place] = self._number(survey.sorts[place], named=False)
        number = np.where(target.chosen, numbers[survey.sort], NOT_MEANT).astype(np.int32)
        if target.chosen[0]:
            number[0] = self._number(survey.sorts[int(survey.sort[0])], named=True)
        write = number >= 0
        several = np.flatnonzero(write & (survey.links > 1) & ~survey.directories()).tolist()
        for place in several:
            inode = survey.device(place), int(survey.inode[place])
            write[place] = inode not in seen
            seen.add(inode)
        if write[0] and not several:
            inode = survey.top.status.inode
            write[0] = inode not in seen
            seen.add(inode)
        return Planned(target, number, write)

    def _number(self, sort: Sort, *, named: bool) -> int:
        """The number of the change for entries of ``sort``; of what was not ``named`` only some of it may be meant."""
        wish, posture = self.wish, sort.posture
        if not named and not wish.concerns(posture):
            return NOT_MEANT
        goal = wanted(posture, wish, self.actor, self.host.settings.umask)
        steps = edit.steps_towards(posture, goal, self.actor)
        change = edit.change(posture, steps, self.actor, sort.mount, sort.keeps_lists)
        change = self._impossible(change, sort, named=named) or change
        found = Noted(change)
        if change.changes:
            accounts = self.host.accounts
            found = Noted(
                change,
                note.of_change(change, goal, wish, accounts),
                tuple(guards.of_change(change, self.actor, accounts, self._asked)),
            )
        self.changes.append(found)
        return len(self.changes) - 1

    def _impossible(self, change: Change, sort: Sort, *, named: bool) -> Change | None:
        """What was asked for by name and cannot be at all, though nothing of it was tried."""
        wish, posture = self.wish, sort.posture
        if not named or change.errno:
            return None
        if wish.default.changes and not wish.default.drop and not posture.directory:
            return Change(posture, posture, errno=errno.ENOTDIR)
        if posture.kind is Kind.SYMLINK and not wish.only_ownership:
            return Change(posture, posture, errno=errno.EOPNOTSUPP)
        return None


# --- guards -----------------------------------------------------------------------


def _guards(made: Plan) -> list[Guard]:
    """Every guard that objects, with an example and how many paths there are; in the order of the list of guards."""
    found: dict[tuple[str, str], Guard] = {}

    def object_to(name: str, text: str, path: str, paths: int) -> None:
        known = found.get((name, text))
        found[name, text] = Guard(name, known.path if known else path, text, paths + (known.paths if known else 0))

    examples = made.examples()
    for number, (noted, count) in enumerate(zip(made.changes, made.counts(), strict=True)):
        if count and noted.change.changes:
            for name, text in noted.guards:
                object_to(name, text, examples[number], count)
    changed = np.array([noted.change.changes for noted in made.changes] or [False], np.bool_)
    for part in made.parts:
        survey = part.target.survey
        meant = part.write & changed[part.number] & (part.number >= 0)
        if meant.any():
            for name, text in guards.of_place(survey.top.path, with_tree=part.target.with_tree):
                object_to(name, text, survey.top.path, int(meant.sum()))
        for place, names in _names_outside(survey, meant):
            text = f"{names:,} other {'name' if names == 1 else 'names'} elsewhere would change with it"
            object_to("hard-links", text, survey.path(place), 1)
    order = list(GUARDS)
    return sorted(found.values(), key=lambda guard: (order.index(guard.name), -guard.paths, guard.path))


def _names_outside(survey: Survey, meant: NDArray[np.bool_]) -> Iterator[tuple[int, int]]:
    """Entries with names that are not in the survey, and how many these are."""
    inside = _names_inside(survey)
    for inode, places in inside.items():
        for place in places:
            names = int(survey.links[place]) - len(inside[inode])
            if meant[place] and names > 0:
                yield place, names


def _names_inside(survey: Survey) -> dict[tuple[int, int], list[int]]:
    """The places of each inode that has several names, and is no directory."""
    found: dict[tuple[int, int], list[int]] = {}
    for place in np.flatnonzero((survey.links > 1) & ~survey.directories()).tolist():
        found.setdefault((survey.device(place), int(survey.inode[place])), []).append(place)
    return found


# --- gains and losses -----------------------------------------------------------------


class _Effect:
    """Counts, over the changed objects and what lies under them, who gains and who loses."""

    def __init__(self, host: Host, made: Plan, progress: Progress) -> None:
        self.host = host
        self.made = made
        self.progress = progress
        self.after: dict[tuple[int, int], Posture] = {}
        self.gained: Counter[tuple[str, int]] = Counter()
        self.lost: Counter[tuple[str, int]] = Counter()

    def count(self) -> None:
        made = self.made
        singles = [part for part in made.parts if not part.target.with_tree]
        for part in made.parts:
            change = self._change_of_top(part)
            if change is not None:
                self.after[part.target.survey.top.status.inode] = change.after
        trees: list[tuple[Survey, Planned | None, Route]] = []
        covered: list[str] = []
        for part in sorted(made.parts, key=lambda part: part.target.survey.top.path):
            top = part.target.survey.top.path
            if any((top + "/").startswith(path.rstrip("/") + "/") for path in covered):
                continue
            route = routes.walk(self.host, top, follow=False)
            if route.end is None:
                continue
            if part.target.with_tree:
                trees.append((part.target.survey, part, route))
                covered.append(top)
                continue
            change = self._change_of_top(part)
            if change is None:
                continue
            if self._opens_or_closes(change):
                trees.append((self._survey(top), None, route))
                covered.append(top)
            else:
                trees.append((alone(route.end), None, route))
        postures = [sort.posture for survey, _, _ in trees for sort in survey.sorts]
        postures += [found.posture for _, _, route in trees for found in route.objects]
        postures += [noted.change.after for noted in made.changes]
        universe = universe_of_postures(self.host.accounts, postures)
        access = TreeAccess(self.host, Access(universe, self.host.settings), RIGHTS)
        for survey, planned, route in trees:
            self._count(access, survey, planned, singles, route)
        made.gains = self._shifts(self.gained, universe)
        made.losses = self._shifts(self.lost, universe)

    def _change_of_top(self, part: Planned) -> Change | None:
        """The change of the top of a target, if it makes a difference."""
        if part.number[0] < 0:
            return None
        change = self.made.changes[int(part.number[0])].change
        return change if change.changes else None

    def _opens_or_closes(self, change: Change) -> bool:
        """Whether other people may traverse a directory afterwards."""
        if not change.after.directory:
            return False
        universe = universe_of_postures(self.host.accounts, [change.before, change.after])
        decisions = Access(universe, self.host.settings).decisions
        return decisions.of(change.before).allowed(EXECUTE) != decisions.of(change.after).allowed(EXECUTE)

    def _survey(self, path: str) -> Survey:
        route, node = routes.open_end(self.host, path, follow=False)
        if node is None:
            raise PathError(path, route.errno)
        try:
            survey = node.survey(progress=self.progress)
        finally:
            node.close()
        if not survey.complete:
            raise KeyboardInterrupt
        # what has gone meanwhile was nobody's to gain or lose
        self.made.troubles += [trouble for trouble in survey.troubles if trouble.errno != errno.ENOENT]
        self.made.skipped += survey.skipped
        return survey

    def _count(
        self, access: TreeAccess, survey: Survey, planned: Planned | None, singles: Iterable[Planned], route: Route
    ) -> None:
        sorts, sort = self._sorts_after(survey, planned, singles)
        if (sort == survey.sort).all():
            return
        then = self._changed_route(route)
        before = access.answers(survey, route, access.reach(route))
        after = access.answers(survey, then, access.reach(then), sorts, sort)
        self._add(before, after)

    def _sorts_after(
        self, survey: Survey, planned: Planned | None, singles: Iterable[Planned]
    ) -> tuple[list[Sort], Numbers]:
        """The sorts, and for each entry the number of its sort, once the plan is carried out."""
        sorts = list(survey.sorts)
        numbers = {sort: number for number, sort in enumerate(sorts)}
        sort = survey.sort.copy()

        def changed(place: int, after: Posture) -> int:
            new = survey.sorts[place]._replace(posture=after)
            number = numbers.setdefault(new, len(numbers))
            if number == len(sorts):
                sorts.append(new)
            return number

        if planned is not None:
            pairs = (planned.number.astype(np.int64) + 1) * len(survey.sorts) + survey.sort
            distinct, places = np.unique(pairs, return_inverse=True)
            after = np.empty(len(distinct), np.int32)
            for place, pair in enumerate(distinct.tolist()):
                number, before = divmod(pair, len(survey.sorts))
                change = self.made.changes[number - 1].change if number else None
                after[place] = changed(before, change.after) if change is not None and change.changes else before
            sort = after[places.reshape(-1)]
            for places_of_one in _names_inside(survey).values():
                # where one name of an inode is meant and another is not, both lead to what was changed
                found = next((place for place in places_of_one if sort[place] != survey.sort[place]), None)
                if found is not None:
                    sort[places_of_one] = sort[found]
        for single in singles:
            change_of_top = self._change_of_top(single)
            if change_of_top is None:
                continue
            device, inode = single.target.survey.top.status.inode
            for place in np.flatnonzero(survey.inode == inode).tolist():
                if survey.device(place) == device:
                    sort[place] = changed(int(survey.sort[place]), change_of_top.after)
        return sorts, sort

    def _changed_route(self, route: Route) -> Route:
        def changed(stage: routes.Stage) -> routes.Stage:
            after = self.after.get(stage.object.status.inode, stage.object.posture)
            return stage._replace(object=stage.object._replace(posture=after))

        return route._replace(stages=tuple(map(changed, route.stages)))

    def _add(self, before: Answers, after: Answers) -> None:
        pairs = before.number.astype(np.int64) * len(after.keys) + after.number
        distinct, counts = np.unique(pairs, return_counts=True)
        for pair, count in zip(distinct.tolist(), counts.tolist(), strict=True):
            one, other = divmod(pair, len(after.keys))
            for right, had, has in zip(RIGHTS, before.keys[one], after.keys[other], strict=True):
                if had is None or has is None:
                    continue
                if has & ~had:
                    self.gained[right, has & ~had] += count
                if had & ~has:
                    self.lost[right, had & ~has] += count

    def _shifts(self, counted: Counter[tuple[str, int]], universe: principals.Universe) -> tuple[Shift, ...]:
        """The counts by principal, in the order of the rights and of the universe."""
        totals: Counter[tuple[int, int]] = Counter()
        for (right, bits), paths in counted.items():
            for place in principals.places(bits):
                totals[RIGHTS.index(right), place] += paths
        everyone = universe.principals
        return tuple(Shift(everyone[place], RIGHTS[right], totals[right, place]) for right, place in sorted(totals))
