"""Comparing two states of a host, or two hosts: what was changed, and who gained or lost which right by it.

Who gained and lost is the one question of :mod:`fiat.core.ask.effects`, asked
of the two; here the entries are matched that it is asked of, and each effect
is put beside its cause.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.effects import Effects
from fiat.core.ask.pathsbehind import Entries
from fiat.core.ask.treeeffects import AnswerDifference, Asker, Pair, View
from fiat.core.ask.treeeffects import effects as effects_of_pairs
from fiat.core.ask.who import universe_of
from fiat.core.model import right as rights_
from fiat.core.model.host import Host
from fiat.core.model.posture import Mount, Posture
from fiat.core.model.principals import Universe
from fiat.core.model.right import Right
from fiat.core.rules.difference import diff
from fiat.core.state.causes import OTHER, Cause, CauseQuestion, Side, causes
from fiat.core.state.matching import AccountChange, Matching, account_changes, match, match_by_name, people_of_both
from fiat.core.tree.assembly import with_joint_profiles
from fiat.core.tree.distinct import distinct, distinct_values, first_places
from fiat.core.tree.profile import Profile
from fiat.core.tree.survey import EntryChooser, Survey

_LOOKS = 10_000
"""So many times at most a cause is looked for: of what makes a difference on most paths first."""


class Compared(NamedTuple):
    """One tree at both times, and how its entries match.

    ``changed`` tells of each matched pair whether its posture is another now;
    ``new_to_anyone`` how many of what is new are open to anyone else, by right.
    """

    pair: Pair
    matching: Matching
    changed: NDArray[np.bool_]
    new_to_anyone: Mapping[Right, int]


class Cell(NamedTuple):
    """Some people who gained, or lost, some rights by one cause, each on so many paths, of which ``first`` is one.

    ``alike`` is how many objects were changed as the one that is the cause was, ``where`` are all these paths.
    """

    gained: bool
    bits: int
    rights: dict[Right, int]
    cause: Cause
    first: str
    alike: int = 1
    where: tuple[Entries, ...] = ()

    @property
    def paths(self) -> int:
        """On how many paths there is any of the rights, at least."""
        return max(self.rights.values())


class MountChange(NamedTuple):
    """A mount that is new, gone or has other options."""

    point: str
    before: Mount | None
    after: Mount | None


class Comparison(NamedTuple):
    """What differs between two states: trees, accounts, mounts; and who gained and lost what, with the causes."""

    trees: list[Compared]
    accounts: list[AccountChange]
    mounts: list[MountChange]
    effects: Effects
    cells: list[Cell]
    universe: Universe

    @property
    def differs(self) -> bool:
        """Whether any object, or any answer, differs between the two states."""
        return bool(self.accounts or self.mounts or self.effects.gains or self.effects.losses) or any(
            bool(one.changed.any() or one.matching.first_moved.any() or one.matching.replaced.any())
            or bool(len(one.matching.gone) or len(one.matching.new))
            for one in self.trees
        )


def compare(
    before: Host, after: Host, trees: Iterable[tuple[View, View]], taking: EntryChooser | None = None
) -> Comparison:
    """Compare these trees, each pair with its top at the same path; only what is meant, if ``taking`` is given."""
    compared = [matched(one, other, taking) for one, other in trees]
    owners = [view.survey.profiles.owners() for found in compared for view in (found.pair.before, found.pair.after)]
    owners += [
        one.posture.owners()
        for found in compared
        for view in (found.pair.before, found.pair.after)
        for one in view.route.objects
    ]
    both = people_of_both(before.accounts, after.accounts, owners)
    asking = Asker(before, after, (both.before, both.after))
    effects = Effects(both.after, accounts=after.accounts)
    cells: list[Cell] = []
    told: list[Compared] = []
    for found in compared:
        effects.at_least |= not (found.pair.before.survey.complete and found.pair.after.survey.complete)
        finder = _Causes(asking, found, both.regrouped)
        for difference in asking.differences(found.pair):
            there = Entries(found.pair.after.survey, difference.others)
            effects.count(difference.before, difference.after, len(difference.places), there)
            finder.take(difference)
        cells += finder.cells()
        told.append(found._replace(new_to_anyone=dict(_open(asking, found, both.after.of_kind("anyone-else")))))
    mounts = [change for found in compared for change in _mount_changes(found)]
    return Comparison(told, account_changes(before.accounts, after.accounts), mounts, effects, cells, both.after)


class NameComparison(NamedTuple):
    """Two trees of one host, compared by the names below their tops; who can more, and who less, in the second."""

    compared: Compared
    effects: Effects

    @property
    def differs(self) -> bool:
        """Whether any posture differs, or a name is in one of them alone."""
        matching = self.compared.matching
        return bool(self.compared.changed.any() or len(matching.gone) or len(matching.new))


def compare_by_name(host: Host, one: View, other: View, taking: EntryChooser | None = None) -> NameComparison:
    """Compare two trees of one host name by name; only what is meant, if ``taking`` is given."""
    found = matched(one, other, taking, match_by_name)
    views = found.pair.before, found.pair.after
    postures = [walked.posture for view in views for walked in view.route.objects]
    universe = universe_of(host.accounts, postures, profiles=[view.survey.profiles for view in views])
    asking = Asker(host, host, (universe, universe))
    return NameComparison(found, effects_of_pairs(asking, [found.pair]))


def _open(asking: Asker, found: Compared, stranger: int) -> Iterator[tuple[Right, int]]:
    """How much of what is new anyone else may read, write or execute."""
    view, new = found.pair.after, found.matching.new
    if len(new):
        answers = asking.after.answers(view.survey, view.route, new)
        for right in (rights_.READ, rights_.WRITE, rights_.EXECUTE):
            count = int(answers.keys.holding(stranger, asking.rights.index(right))[answers.number].sum())
            if count:
                yield right, count


def matched(
    one: View,
    other: View,
    taking: EntryChooser | None = None,
    matching: Callable[[Survey, Survey], Matching] = match,
) -> Compared:
    """How one tree and what it was match, and what of it changed; who gained by it is not asked."""
    surveys = with_joint_profiles(one.survey, other.survey)
    found = matching(*surveys)
    if taking is not None:
        found = _chosen(found, surveys[0].chosen(taking), surveys[1].chosen(taking))
    changed = _changed(surveys[0].profile[found.before], surveys[1].profile[found.after], list(surveys[0].profiles))
    pair = Pair(one._replace(survey=surveys[0]), other._replace(survey=surveys[1]), matched=(found.before, found.after))
    return Compared(pair, found, changed, {})


def _chosen(found: Matching, then: NDArray[np.bool_], now: NDArray[np.bool_]) -> Matching:
    """What is meant of it: that which is, or was, to be taken."""
    kept = then[found.before] | now[found.after]
    return found._replace(
        before=found.before[kept],
        after=found.after[kept],
        moved=found.moved[kept],
        first_moved=found.first_moved[kept],
        replaced=found.replaced[kept],
        sure=found.sure[kept],
        gone=found.gone[then[found.gone]],
        new=found.new[now[found.new]],
    )


def _changed(before: NDArray[np.int32], after: NDArray[np.int32], profiles: Sequence[Profile]) -> NDArray[np.bool_]:
    """For each pair whether it has changed: each distinct pair of profiles is looked at once."""
    found = np.zeros(len(before), np.bool_)
    some = np.flatnonzero(before != after)
    if len(some):
        distinct, number = distinct_values(before[some].astype(np.int64) * len(profiles) + after[some])
        each = [differs(*(profiles[one] for one in divmod(value, len(profiles)))) for value in distinct.tolist()]
        found[some] = np.array(each, np.bool_)[number]
    return found


_NOT_READ = {"access list": "acl", "default list": "default", "flags": "flags", "capabilities": "capabilities"}


def differs(before: Profile, after: Profile) -> bool:
    """Whether anything differs that is compared: the posture, or the other flags."""
    return posture_differs(before, after) or other_flags_differ(before, after)


def other_flags_differ(before: Profile, after: Profile) -> bool:
    """Whether the flags that have no say in access differ, where both are known."""
    one, other = before.other_flags, after.other_flags
    return one is not None and other is not None and one != other


def posture_differs(before: Profile, after: Profile) -> bool:
    """Whether the postures differ; what of either could not be read counts as it is on the other side."""
    if before.posture == after.posture:
        return False
    one, other = before.posture, after.posture
    for what, _ in (*before.unknown, *after.unknown):
        field = _NOT_READ.get(what)
        if field is not None:
            nothing: dict[str, Any] = {field: None}
            one, other = one._replace(**nothing), other._replace(**nothing)
    if one.flags is None or other.flags is None:
        one, other = one._replace(flags=None), other._replace(flags=None)
    return one != other


def _mount_changes(found: Compared) -> Iterator[MountChange]:
    """Mounts of which anything is seen in the tree, or on the way to it, by their points."""
    sides = ({mount.point: mount for mount in _mounts_of(view)} for view in (found.pair.before, found.pair.after))
    before, after = sides
    for point in sorted(before.keys() | after.keys()):
        one, other = before.get(point), after.get(point)
        if one is None or other is None or _of_mount(one) != _of_mount(other):
            yield MountChange(point, one, other)


def _mounts_of(view: View) -> list[Mount]:
    profiles = view.survey.profiles
    used = sorted(set(profiles.columns.rest[distinct(view.survey.profile)].tolist()))
    found = [profiles.rests[number].mount for number in used]
    found += [one.mount for one in view.route.objects]
    return [mount for mount in found if mount is not None]


def _of_mount(mount: Mount) -> tuple[object, ...]:
    return mount.type, sorted(mount.options), sorted(mount.filesystem_options)


# --- causes --------------------------------------------------------------------------


class _Causes:
    """Collects the causes of differences: of entries that are alike in all that can be a cause, one is looked at."""

    def __init__(self, asking: Asker, compared: Compared, regrouped: int) -> None:
        pair = compared.pair
        self.compared = compared
        self.regrouped = regrouped
        self.before = Side(pair.before, asking.before)
        self.after = Side(pair.after, asking.after)
        self.signature = _signatures(compared)
        self.moved = np.zeros(len(pair.after.survey), np.bool_)
        self.moved[compared.matching.after] = compared.matching.moved
        self.asked: list[tuple[NDArray[np.int64], CauseQuestion]] = []
        self.found: dict[tuple[bool, int, Right, object], _Tally] = {}

    def take(self, difference: AnswerDifference) -> None:
        """Note a difference: of each kind of entries that have it one will be looked at."""
        signs, number = distinct_values(self.signature[difference.others])
        first = first_places(number, len(signs))
        bounds = np.cumsum(np.bincount(number, minlength=len(signs)))[:-1]
        entries = np.split(difference.others[np.argsort(number, kind="stable")], bounds)
        gained, lost = diff(difference.before, difference.after)
        for place, some in zip(first.tolist(), entries, strict=True):
            before, after = int(difference.places[place]), int(difference.others[place])
            moved = bool(self.moved[after])
            self.asked += [
                (some, CauseQuestion(before, after, right, bits, True, moved)) for right, bits in gained.items()
            ]
            self.asked += [
                (some, CauseQuestion(before, after, right, bits, False, moved)) for right, bits in lost.items()
            ]

    def _look(self) -> None:
        """Find the causes: those of one kind of entries for everybody at once, whoever of them gained or lost there."""
        alike: dict[tuple[int, Right, bool], list[tuple[NDArray[np.int64], CauseQuestion]]] = {}
        for entries, asked in self.asked:
            key = int(self.signature[asked.after]), asked.right, asked.gained
            alike.setdefault(key, []).append((entries, asked))
        for number, some in enumerate(sorted(alike.values(), key=lambda some: -sum(len(one) for one, _ in some))):
            everybody = 0
            for _, asked in some:
                everybody |= asked.bits
            found: Iterable[tuple[int, Cause]] = [(everybody, OTHER)]
            if number < _LOOKS:
                found = list(causes(self.before, self.after, some[0][1]._replace(bits=everybody), self.regrouped))
            for entries, asked in some:
                self._tally(asked, entries, found)

    def _tally(self, asked: CauseQuestion, entries: NDArray[np.int64], found: Iterable[tuple[int, Cause]]) -> None:
        for people, cause in found:
            bits = asked.bits & people
            if bits:
                key = asked.gained, bits, asked.right, _kind_of(cause)
                tally = self.found.setdefault(key, _Tally(cause, asked.after))
                tally.paths += len(entries)
                tally.where.append(entries)
                tally.first = min(tally.first, asked.after)

    def cells(self) -> Iterator[Cell]:
        """One cell for all rights that the same people gained, or lost, by the same cause."""
        self._look()
        together: dict[tuple[bool, int, object], dict[Right, _Tally]] = {}
        for (gained, bits, right, kind), tally in self.found.items():
            together.setdefault((gained, bits, kind), {})[right] = tally
        survey, alike = self.after.view.survey, self._alike()
        for (gained, bits, kind), tallies in together.items():
            rights = {right: tallies[right].paths for right in rights_.ALL if right in tallies}
            first = min(tallies.values(), key=lambda tally: tally.first)
            where = tuple(Entries(survey, entries) for tally in tallies.values() for entries in tally.where)
            yield Cell(gained, bits, rights, first.cause, survey.path(first.first), alike.get(kind, 1), where)

    def _alike(self) -> dict[object, int]:
        """How many objects of the tree were changed in each way, by the kind of cause that this is."""
        pair, found = self.compared.pair, self.compared
        changed = np.flatnonzero(found.changed)
        profiles = pair.after.survey.profiles
        one = pair.before.survey.profile[found.matching.before[changed]].astype(np.int64)
        other = pair.after.survey.profile[found.matching.after[changed]]
        distinct, number = distinct_values(one * len(profiles) + other)
        counts: dict[object, int] = {}
        for value, count in zip(distinct.tolist(), np.bincount(number).tolist(), strict=True):
            before, after = divmod(value, len(profiles))
            kind = _kind_of_change(profiles[before].posture, profiles[after].posture)
            counts[kind] = counts.get(kind, 0) + count
        return counts


class _Tally:
    """On how many paths one cause was met: an example of it, and the place of the first path."""

    def __init__(self, cause: Cause, first: int) -> None:
        self.cause = cause
        self.first = first
        self.paths = 0
        self.where: list[NDArray[np.int64]] = []


def _kind_of(cause: Cause) -> object:
    """What makes two causes one kind: equal changes are one, wherever they were made."""
    if cause.kind == "posture" and cause.before is not None and cause.after is not None:
        return _kind_of_change(cause.before.posture, cause.after.posture)
    if cause.kind in ("membership", "moved", "replaced", "other"):
        return cause.kind
    return cause.kind, cause.path


def _kind_of_change(before: Posture, after: Posture) -> object:
    """What makes two changes of postures equal: which bits came and went, and what else is other than it was."""
    came, went = after.mode & ~before.mode, before.mode & ~after.mode
    pairs = zip(before[2:], after[2:], strict=True)  # all but type and mode
    return (
        "posture",
        before.directory,
        came,
        went,
        tuple(None if one == other else (one, other) for one, other in pairs),
    )


def _signatures(compared: Compared) -> NDArray[np.int64]:
    """For each entry after a number: those with the same one are alike in all that can have made a difference.

    That is their own pair of profiles, and those of the directories above that are not as they were.
    """
    pair = compared.pair
    survey, count = pair.after.survey, len(pair.after.survey.profiles)
    matching = compared.matching
    own = np.full(len(survey), -1, np.int64)
    own[matching.after] = (
        pair.before.survey.profile[matching.before].astype(np.int64) * count + survey.profile[matching.after]
    )
    own[matching.after[matching.first_moved]] += count * count  # apart from those that stayed
    _, own_number = distinct_values(own + 1)
    same = np.zeros(len(survey), np.bool_)
    same[matching.after] = (pair.before.survey.profile[matching.before] == survey.profile[matching.after]) & (
        ~matching.first_moved
    )
    chain = np.zeros(len(survey), np.int64)
    known: dict[tuple[int, int], int] = {}
    for level in survey.levels():
        for place in level.tolist():
            above = int(chain[survey.parent[place]]) if place else 0
            if same[place]:
                chain[place] = above
            else:
                chain[place] = known.setdefault((above, int(own_number[place])), len(known) + 1)
    parents = np.maximum(survey.parent, 0)
    _, holder = distinct_values(survey.profile[parents].astype(np.int64))
    width = int(own_number.max()) + 1 if len(own_number) else 1
    together = (chain[parents] * width + own_number) * (int(holder.max()) + 1) + holder
    return together.astype(np.int64)
