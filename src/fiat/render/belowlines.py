"""The answer of ``who`` for a whole tree in machine output: each distinct answer, or a line for each path."""

from collections.abc import Iterator
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from fiat.app.whobelow import TreeWho
from fiat.core.model.fields import Fields
from fiat.core.tree.answerkeys import AnswerKey
from fiat.core.tree.distinct import first_places
from fiat.render import lines
from fiat.render.people import PeopleFields
from fiat.render.several import by_several


class BelowLines:
    """Writes the entries that were asked about; answers are counted from ``numbered`` on."""

    def __init__(self, found: TreeWho, people: PeopleFields, numbered: int) -> None:
        self.found = found
        self.numbered = numbered
        self._people = people
        survey = found.survey
        self._kinds = [rest.posture.kind.value for rest in survey.profiles.rests]
        self._places = np.arange(len(survey)) if found.taken is None else np.flatnonzero(found.taken)

    def rights(self, key: AnswerKey) -> Fields:
        """Each right with who has it."""
        return {right.name: self._people.fields(bits) for right, bits in zip(self.found.rights, key, strict=True)}

    def json(self) -> Iterator[str]:
        """JSON Lines: each distinct answer before the first path that has it, and a line for each path."""
        answers, keys = self.found.answers.number[self._places], self.found.answers.keys
        first = np.sort(first_places(answers, len(keys)))
        first = first[first < len(answers)]
        numbers = np.full(len(keys), -1, np.int64)
        numbers[answers[first]] = np.arange(self.numbered + 1, self.numbered + 1 + len(first))
        self.numbered += len(first)
        begins = frozenset(self._places[first].tolist())
        return by_several(self._places, lambda some: self._json_of(some, numbers.tolist(), begins))

    def _json_of(self, places: NDArray[np.int64], numbers: list[int], begins: frozenset[int]) -> Iterator[str]:
        """The lines for some entries; ``numbers`` are those of the answers; at the places ``begins`` one begins."""
        ends: dict[int, str] = {}  # of lines, by answer and kind
        keys, names = self.found.answers.keys, [right.name for right in self.found.rights]
        for some, answers, kinds, alike, paths in self._blocks(places):
            for at in _first_places(alike):
                ends.setdefault(alike[at], f', "kind": "{kinds[at]}", "answer": {numbers[answers[at]]}}}\n')
            written = [
                f'{{"path": {path}{end}'
                for path, end in zip(lines.json_texts(paths), map(ends.__getitem__, alike), strict=True)
            ]
            for at in [at for at, place in enumerate(some) if place in begins]:
                sets = map(self._people.json, keys[answers[at]])
                rights = ", ".join(f'"{name}": {one}' for name, one in zip(names, sets, strict=True))
                written[at] = f'{{"answer": {numbers[answers[at]]}, "rights": {{{rights}}}}}\n{written[at]}'
            yield "".join(written)

    def header(self) -> list[str]:
        """The names of the columns of CSV."""
        return [
            "path",
            "kind",
            *chain.from_iterable((one.name, f"{one.name}_anyone_else") for one in self.found.rights),
        ]

    def csv(self) -> Iterator[str]:
        """CSV: each path, for each right the users who have it, and whether anyone else has."""
        return by_several(self._places, self._csv_of)

    def _csv_of(self, places: NDArray[np.int64]) -> Iterator[str]:
        ends: dict[int, str] = {}
        keys = self.found.answers.keys
        for _, answers, kinds, alike, paths in self._blocks(places):
            for place in _first_places(alike):
                if alike[place] not in ends:
                    cells = [kinds[place], *chain.from_iterable(map(self._cells, keys[answers[place]]))]
                    ends[alike[place]] = f",{lines.csv_row(cells)}\n"
            yield "".join(map(str.__add__, lines.csv_cells(paths), map(ends.__getitem__, alike)))

    def _cells(self, bits: int | None) -> tuple[str, str]:
        people = self._people.fields(bits)
        if people is None:
            return "", ""
        return lines.csv_cell(people["users"]), lines.csv_cell(people["anyone_else"])

    def _blocks(
        self, places: NDArray[np.int64]
    ) -> Iterator[tuple[list[int], list[int], list[str], list[int], list[str]]]:
        """Some thousand entries at a time: their places, answers, kinds, a number that stands for both, paths."""
        survey, number = self.found.survey, self.found.answers.number
        rest, distinct = survey.profiles.columns.rest, list(dict.fromkeys(self._kinds))
        kind_of_rest = np.array([distinct.index(kind) for kind in self._kinds], np.int64)
        for some, paths in survey.paths_in_blocks(places):
            kinds = kind_of_rest[rest[survey.profile[some]]]
            answers = number[some]
            alike = answers.astype(np.int64) * len(distinct) + kinds
            yield some.tolist(), answers.tolist(), [distinct[kind] for kind in kinds.tolist()], alike.tolist(), paths


def _first_places(numbers: list[int]) -> list[int]:
    """Where each distinct number stands first, in this order."""
    first: dict[int, int] = {}
    for place, number in enumerate(numbers):
        if number not in first:
            first[number] = place
    return list(first.values())
