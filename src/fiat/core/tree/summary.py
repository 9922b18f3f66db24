"""A tree's answers in short: equal answers together, with where they are found."""

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.answerkeys import AnswerKey, AnswerKeys, Answers
from fiat.core.tree.distinct import each_once, first_places
from fiat.core.tree.survey import Survey

_SHOWN = 3
"""Places of a group that are named."""


class Group(NamedTuple):
    """All the entries of a tree with one answer.

    ``first`` holds the first, in the order of the survey, of the directories
    whose parent has another answer, and of the directories that other entries
    are in; ``places`` how many of these there are. ``example`` is the first
    entry itself. Both are places in the survey.
    """

    answer: AnswerKey
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
        """The same entries by other numbers below ``count``, each of which stands for one answer or several."""
        return Groups(
            self._survey, Answers(number, AnswerKeys(self._keys.table, np.zeros((count, 0), np.int32))), number >= 0
        )

    def __getitem__(self, place: int) -> Group:
        answer = int(self.answer[place])
        begin, end = int(self._begins[answer]), int(self._begins[answer + 1])
        first = self._pairs[begin : min(end, begin + _SHOWN)] - answer * self._entries
        return Group(
            answer=self._keys[answer],
            directories=int(self.directories[place]),
            others=int(self.others[place]),
            first=tuple(first.tolist()),
            places=end - begin,
            example=int(self._examples[place]),
        )

    def __iter__(self) -> Iterator[Group]:
        return map(self.__getitem__, range(len(self)))

    def holding(self, principals: int, right: int) -> tuple[int, int]:
        """Of how many entries any of these principals has the right at this place, and the first of them."""
        having = self._keys.holding(principals, right)[self.answer]
        if not having.any():
            return 0, -1
        return int((self.directories + self.others)[having].sum()), int(self._examples[having].min())
