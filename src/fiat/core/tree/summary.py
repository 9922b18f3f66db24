"""A tree's answers in short: equal answers together, those equal but for who the owner is, and the topmost that stand
for all under them."""

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model import capabilities
from fiat.core.model.principals import Universe
from fiat.core.tree.answerkeys import AnswerKey, AnswerKeys, Answers
from fiat.core.tree.distinct import distinct_columns, distinct_values, each_once, first_places
from fiat.core.tree.setrows import Words
from fiat.core.tree.survey import Survey


class Standing(NamedTuple):
    """Who has one right, apart from owners: ``rest`` as a set, in which those taken apart do not count.

    ``owner`` tells whether the owner has it, None where of several accounts with its number only some do: then
    ``rest`` says it of each. ``group`` tells whether the members of the
    owning group have it, the owner aside; None where only some of them do, or where it makes no difference:
    then ``rest`` says it of each. ``open`` tells that ``rest`` holds anyone else.
    """

    rest: int
    owner: bool | None
    group: bool | None
    open: bool

    def put_together(self, universe: Universe, *, uid: int | None = None, gid: int | None = None) -> int:
        """The set for what this user, and this group, owns; those left out stay apart."""
        powerful = universe.holders_of(capabilities.DAC_OVERRIDE)
        owner = 0 if uid is None else universe.with_uid(uid) & ~powerful
        members = 0 if gid is None else universe.in_group(gid) & ~powerful & ~owner
        if self.open:
            return self.rest & ~(owner if self.owner is False else 0) & ~(members if self.group is False else 0)
        return self.rest | (owner if self.owner else 0) | (members if self.group else 0)


class Row(NamedTuple):
    """One answer for many owners: for each right how it stands, None where it does not apply."""

    rights: tuple[Standing | None, ...]
    uids: tuple[int, ...]
    gids: tuple[int, ...]


class ByOwner:
    """The answers of the entries that are ``taken`` (or all), by rows; ``number`` is for each entry that of its row.

    ``of_answer`` gives for each answer the rows that it is in, the most frequent first.
    """

    def __init__(
        self, survey: Survey, answers: Answers, universe: Universe, taken: NDArray[np.bool_] | None = None
    ) -> None:
        self._keys = answers.keys
        self._table = answers.keys.table
        crowd = self._table.crowd
        self._universe = universe if crowd is None else crowd.universe
        self._all_else = universe.of_kind("anyone-else")
        self._anyone = self._all_else if crowd is None else crowd.standing_for(self._all_else)
        places = np.arange(len(survey)) if taken is None else np.flatnonzero(taken)
        pairs = answers.number[places].astype(np.int64) * len(survey.profiles) + survey.profile[places]
        distinct, number = distinct_values(pairs)
        answer, profile = distinct // max(len(survey.profiles), 1), distinct % max(len(survey.profiles), 1)
        uid, gid = (column[profile].astype(np.int64) for column in survey.profiles.columns[1:3])
        first, alike = distinct_columns(answer, uid, gid)
        self._answer, self._uid, self._gid = answer[first], uid[first], gid[first]
        self._forms = self._standings()
        self._first, same = distinct_columns(*self._forms.T)
        self._row_of = same
        self.number = np.full(len(survey), -1, np.int32)
        if len(places):
            self.number[places] = same[alike][number]

    def __len__(self) -> int:
        return len(self._first)

    def __getitem__(self, number: int) -> Row:
        of_row = np.flatnonzero(self._row_of == number)
        forms = self._forms[self._first[number]].tolist()
        return Row(
            tuple(None if form < 0 else self._standing(form) for form in forms),
            tuple(dict.fromkeys(self._uid[of_row].tolist())),
            tuple(dict.fromkeys(self._gid[of_row].tolist())),
        )

    def rows_of_answers(self) -> dict[int, list[int]]:
        """For each answer the rows that it is in."""
        found: dict[int, list[int]] = {}
        pairs = zip(self._answer.tolist(), self._row_of.tolist(), strict=True)
        for answer, row in dict.fromkeys(pairs):
            found.setdefault(answer, []).append(row)
        return found

    def _standing(self, form: int) -> Standing:
        number, flags = divmod(form, 16)
        owner, group = ({0: False, 1: True}.get(flag) for flag in (flags & 3, flags >> 2))
        rest = self._table[number]
        return Standing(rest, owner, group, bool(rest & self._all_else))

    def _standings(self) -> NDArray[np.int64]:
        """A number that tells how each right stands: a row for each distinct combination of answer, owner and group."""
        principals = self._universe
        powerful = principals.holders_of(capabilities.DAC_OVERRIDE)
        owners, of_uid = distinct_values(self._uid)
        groups, of_gid = distinct_values(self._gid)
        sets = self._table.sets
        owner_rows = sets.of(principals.with_uid(uid) for uid in owners.tolist())
        group_rows = sets.of(principals.in_group(gid) & ~powerful for gid in groups.tolist())
        strong, anyone = sets.constant(powerful), sets.constant(self._anyone)
        numbers = self._keys.numbers[self._answer]
        found = np.full(numbers.shape, -1, np.int64)
        for right in range(numbers.shape[1]):
            there = np.flatnonzero(numbers[:, right] >= 0)
            for begin in range(0, len(there), sets.at_once):
                some = there[begin : begin + sets.at_once]
                rows = self._table.rows_of(numbers[some, right])
                found[some, right] = self._apart(
                    rows, owner_rows[of_uid[some]], group_rows[of_gid[some]], strong, anyone
                )
        return found

    def _apart(self, rows: Words, owner: Words, group: Words, strong: Words, anyone: Words) -> NDArray[np.int64]:
        """The number of the rest of each set, times 16, and what holds for owner and group."""
        where = self._table.sets.where
        has, every = _any(rows & owner), ~_any((rows & owner) ^ owner)
        owner = owner & ~strong  # what root has it has as the superuser
        group = group & ~owner
        inside = rows & group
        some, whole = _any(inside), ~_any(inside ^ group)
        open_ = _any(rows & anyone)
        owner = where(every | ~has, owner)  # of one number there may be several accounts
        # those who are told apart stand in the rest of an open set, and not in that of any other
        uniform = whole | ~some
        apart = owner | where(uniform, group)
        rest: Words = np.where(open_[:, None], rows | apart, rows & ~apart)
        flag = np.where(uniform, np.where(whole, 1, 0), 2)
        flags = np.where(every | ~has, has.astype(np.int64), 2) + 4 * flag
        found: NDArray[np.int64] = self._table.numbers(rest).astype(np.int64) * 16 + flags
        return found


def _any(rows: Words) -> NDArray[np.bool_]:
    found: NDArray[np.bool_] = np.any(rows, axis=1)
    return found


_BUT = 3
"""So many exceptions at most are named of a directory, where it holds for ten times as many."""


class Topmost(NamedTuple):
    """An entry, and on how many of those that are meant at and under it the same holds.

    ``itself`` tells whether it is one of them. ``but`` are the places under it where it does not hold.
    """

    place: int
    paths: int
    itself: bool
    but: tuple[int, ...] = ()


def topmost(survey: Survey, meant: NDArray[np.bool_], holds: NDArray[np.bool_]) -> Iterator[Topmost]:
    """The topmost entries, in the order of the survey, that together stand for all those of which it ``holds``.

    Only what is ``meant`` counts. A directory stands for all under it, where it
    holds for itself and for all of these, or for all but a few; one that is not
    meant itself, where all that is meant under it are several.
    """
    places = np.arange(len(survey))
    whole, having = (_sums(one)[survey.end] - _sums(one)[places] for one in (meant, meant & holds))
    lacking = whole - having
    few = (lacking == 0) | ((lacking <= _BUT) & (having >= 10 * lacking))
    stands = survey.directories() & few & np.where(meant, holds, (having > 1) & (lacking == 0))
    # what is under one of them is told with it
    edges = np.zeros(len(survey) + 1, np.int64)
    np.add.at(edges, places[stands] + 1, 1)
    np.add.at(edges, survey.end[stands], -1)
    covered = np.cumsum(edges[:-1]) > 0
    shown = (stands | (meant & holds)) & ~covered
    for place in np.flatnonzero(shown).tolist():
        end = int(survey.end[place]) if stands[place] else place + 1
        but = np.flatnonzero(meant[place:end] & ~holds[place:end]) + place if lacking[place] else ()
        paths = int(having[place]) if stands[place] else 1
        yield Topmost(place, paths, bool(meant[place]), tuple(int(one) for one in but))


def _sums(values: NDArray[np.bool_]) -> NDArray[np.int64]:
    """How many there are before each place."""
    return np.concatenate([np.zeros(1, np.int64), np.cumsum(values, dtype=np.int64)])


_SHOWN = 3
"""Places of a group that are named."""


class AnswerGroup(NamedTuple):
    """All the entries of a tree with one answer.

    ``first`` holds the first, in the order of the survey, of the directories
    whose parent has another answer, and of the directories that other entries
    are in; ``places`` how many of these there are. ``example`` is the first
    entry itself. Both are places in the survey. ``open`` are, for each right, those of whom it is not known.
    """

    answer: AnswerKey
    open: AnswerKey
    directories: int
    others: int
    first: tuple[int, ...]
    places: int
    example: int


class Groups:
    """The distinct answers of the ``chosen`` entries, the most frequent first; each made when it is asked for.

    For each: ``answer``, its number; ``directories`` and ``others``, how many there are.
    """

    def __init__(self, survey: Survey, answers: Answers, chosen: NDArray[np.bool_] | None = None) -> None:
        self._survey = survey
        self._keys = answers.keys
        self._entries = len(survey)
        count = len(answers.keys)
        directory = survey.directories()
        number = answers.number if chosen is None else np.where(chosen, answers.number, count).astype(np.int32)
        directories = np.bincount(number[directory], minlength=count + 1)[:count]
        others = np.bincount(number, minlength=count + 1)[:count] - directories
        examples = first_places(number, count + 1)
        order = np.lexsort((examples[:count], -directories - others))
        self.answer = order[: np.count_nonzero(directories + others)]
        self.directories, self.others = directories[self.answer], others[self.answer]
        self._examples = examples[self.answer]
        # a directory stands for itself, anything else for the directory it is in
        parent = np.maximum(survey.parent, 0)
        starts = directory & (number != number[parent])
        starts[0] = directory[0]
        there = np.flatnonzero((number < count) & (starts | ~directory))
        where = np.where(directory[there], there, parent[there])
        pairs = number[there].astype(np.int64) * len(survey) + where
        pairs = pairs[np.flatnonzero(np.diff(pairs, prepend=-1))]  # most of a directory's entries are alike
        self._pairs = np.array(each_once(pairs), np.int64)
        self._begins = np.searchsorted(self._pairs, np.arange(count + 1, dtype=np.int64) * len(survey))

    def __len__(self) -> int:
        return len(self.answer)

    def by(self, number: NDArray[np.int32], count: int) -> "Groups":
        """Groups of these entries by other numbers below ``count``, each of which stands for one answer or several."""
        return Groups(
            self._survey, Answers(number, AnswerKeys(self._keys.table, np.zeros((count, 0), np.int32))), number >= 0
        )

    def __getitem__(self, place: int) -> AnswerGroup:
        answer = int(self.answer[place])
        begin, end = int(self._begins[answer]), int(self._begins[answer + 1])
        first = self._pairs[begin : min(end, begin + _SHOWN)] - answer * self._entries
        return AnswerGroup(
            answer=self._keys[answer],
            open=self._keys.open(answer),
            directories=int(self.directories[place]),
            others=int(self.others[place]),
            first=tuple(first.tolist()),
            places=end - begin,
            example=int(self._examples[place]),
        )

    def __iter__(self) -> Iterator[AnswerGroup]:
        return map(self.__getitem__, range(len(self)))

    def holding(self, principals: int, right: int) -> tuple[int, int]:
        """Of how many entries any of these principals has the right at this place, and the first of them."""
        having = self._keys.holding(principals, right)[self.answer]
        if not having.any():
            return 0, -1
        return int((self.directories + self.others)[having].sum()), int(self._examples[having].min())
