"""A tree's answers in short: equal answers together, with where they are found."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.answers import AnswerKey, Answers
from fiat.core.tree.survey import Survey


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


def groups(survey: Survey, answers: Answers, chosen: NDArray[np.bool_] | None = None, show: int = 3) -> list[Group]:
    """The distinct answers of the ``chosen`` entries, the most frequent first."""
    count = len(answers.keys)
    directory = survey.directories()
    number = answers.number if chosen is None else np.where(chosen, answers.number, -1)
    parent = np.maximum(survey.parent, 0)
    starts = directory & (number != number[parent])
    starts[0] = directory[0]
    # a directory stands for itself, anything else for the directory it is in
    counted = number >= 0
    where = np.where(directory, np.arange(len(survey)), parent)[counted & (starts | ~directory)].astype(np.int64)
    pairs = np.unique(number[counted & (starts | ~directory)].astype(np.int64) * len(survey) + where)
    begins = np.searchsorted(pairs, np.arange(count + 1, dtype=np.int64) * len(survey))
    directories = np.bincount(number[counted & directory], minlength=count)
    others = np.bincount(number[counted & ~directory], minlength=count)
    seen, examples = np.unique(number, return_index=True)
    found = []
    for answer, example in zip(seen.tolist(), examples.tolist(), strict=True):
        if answer < 0:
            continue
        begin, end = int(begins[answer]), int(begins[answer + 1])
        found.append(
            Group(
                answer=answers.keys[answer],
                directories=int(directories[answer]),
                others=int(others[answer]),
                first=tuple(int(pair) - answer * len(survey) for pair in pairs[begin : min(end, begin + show)]),
                places=end - begin,
                example=example,
            )
        )
    return sorted(found, key=lambda group: (-group.directories - group.others, group.example))
