"""Answers that are the same but for who the owner and the owning group are, as one.

In a tree of homes everybody may write what is theirs: as many answers as there
are owners, and one sentence. An answer is taken apart into what holds for the owner,
what holds for the owning group, and the rest, from which it can be put together
again for each owner.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model import capabilities
from fiat.core.model.principals import Universe
from fiat.core.tree.answerkeys import Answers
from fiat.core.tree.distinct import distinct_columns, distinct_values
from fiat.core.tree.setrows import Words
from fiat.core.tree.survey import Survey


class Standing(NamedTuple):
    """Who has one right, apart from owners: ``rest`` as a set, in which those taken apart do not count.

    ``owner`` tells whether the owner has it. ``group`` tells whether the members of the
    owning group have it, the owner aside; None where only some of them do, or where it makes no difference:
    then ``rest`` says it of each. ``open`` tells that ``rest`` holds anyone else.
    """

    rest: int
    owner: bool
    group: bool | None
    open: bool

    def put_together(self, universe: Universe, *, uid: int | None = None, gid: int | None = None) -> int:
        """The set for what this user, and this group, owns; those left out stay apart."""
        powerful = universe.holding(capabilities.DAC_OVERRIDE)
        owner = 0 if uid is None else universe.with_uid(uid) & ~powerful
        members = 0 if gid is None else universe.in_group(gid) & ~powerful & ~owner
        if self.open:
            return self.rest & ~(0 if self.owner else owner) & ~(members if self.group is False else 0)
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
        number, flags = divmod(form, 8)
        group = {0: False, 1: True}.get(flags >> 1)
        rest = self._table[number]
        return Standing(rest, bool(flags & 1), group, bool(rest & self._all_else))

    def _standings(self) -> NDArray[np.int64]:
        """A number that tells how each right stands: a row for each distinct combination of answer, owner and group."""
        principals = self._universe
        powerful = principals.holding(capabilities.DAC_OVERRIDE)
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
        """The number of the rest of each set, times 8, and what holds for owner and group."""
        where = self._table.sets.where
        has = _any(rows & owner)
        owner = owner & ~strong  # what root has it has as the superuser
        group = group & ~owner
        inside = rows & group
        some, whole = _any(inside), ~_any(inside ^ group)
        open_ = _any(rows & anyone)
        # those who are told apart stand in the rest of an open set, and not in that of any other
        uniform = whole | ~some
        apart = owner | where(uniform, group)
        rest: Words = np.where(open_[:, None], rows | apart, rows & ~apart)
        flag = np.where(uniform, np.where(whole, 1, 0), 2)
        flags = has.astype(np.int64) + 2 * flag
        found: NDArray[np.int64] = self._table.numbers(rest).astype(np.int64) * 8 + flags
        return found


def _any(rows: Words) -> NDArray[np.bool_]:
    found: NDArray[np.bool_] = np.any(rows, axis=1)
    return found
