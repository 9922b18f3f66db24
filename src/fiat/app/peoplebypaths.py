"""Who may do what with several paths, as a table: people who may do the same with all of them stand together, and so do
paths with which everyone may do the same."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from fiat.app.question import Question
from fiat.app.who import Who
from fiat.core.model import capabilities
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal
from fiat.core.model.right import EXECUTE, READ, TRAVERSE, WRITE, Right
from fiat.core.words.who import Asked

Cell = tuple[tuple[Right, bool | None], ...]
"""For each right that applies there, whether they have it; None where that is not known."""


class People(NamedTuple):
    """Those who may do the same with every path; ``anyone_else`` tells that whoever has no account is like them, and
    ``superuser`` that all of them are root, or like root."""

    who: tuple[Principal, ...]
    anyone_else: bool
    superuser: bool


class Place(NamedTuple):
    """A path, and what is there."""

    path: str
    posture: Posture | None


class PeopleByPaths(NamedTuple):
    """``cells[row][column]`` is what the people of the column may do with the paths of the row.

    People stand in order: those who are most like anyone else first, the superuser last. ``usual`` is the column that
    the others are compared with: that of anyone else, or of most people.
    """

    rows: list[tuple[Place, ...]]
    columns: list[People]
    cells: list[list[Cell]]
    usual: int

    def differs(self, row: int, column: int) -> bool:
        """Whether these people may do another thing there than the usual ones; not said of the superuser."""
        return not self.columns[column].superuser and self.cells[row][column] != self.cells[row][self.usual]


def slots(question: Question) -> Sequence[Asked]:
    """What is told in each cell: a right, or those that stand for each other on objects of several kinds."""
    return question.asked or ((READ,), (WRITE,), (EXECUTE, TRAVERSE))


def people_by_paths(found: Sequence[Who]) -> PeopleByPaths:
    """The answers of several paths, put together; who is meant are users, anyone else, and groups that were named."""
    people: dict[object, Principal] = {}
    cells = [_cells_of(one, people) for one in found]
    columns: dict[tuple[Cell, ...], list[object]] = {}
    for who in people:  # a number without an account that is on another path alone is anyone else's here
        columns.setdefault(tuple(of_path.get(who, of_path[_ANYONE_ELSE]) for of_path in cells), []).append(who)
    rows: dict[tuple[Cell, ...], list[Place]] = {}
    for place, one in enumerate(found):
        end = one.answer.end
        row = tuple(key[place] for key in columns)
        rows.setdefault(row, []).append(Place(one.answer.route.asked, end.posture if end else None))
    groups = [_people([people[who] for who in some]) for some in columns.values()]

    def usualness(column: int) -> tuple[bool, bool, int]:
        people = groups[column]
        return people.anyone_else, not people.superuser, len(people.who)

    usual = max(range(len(groups)), key=usualness)

    def unlike(column: int) -> tuple[bool, int, int]:
        differing = sum(row[column] != row[usual] for row in rows)
        return groups[column].superuser, differing, -len(groups[column].who)

    order = sorted(range(len(groups)), key=unlike)
    return PeopleByPaths(
        [tuple(places) for places in rows.values()],
        [groups[column] for column in order],
        [[row[column] for column in order] for row in rows],
        order.index(usual),
    )


def _cells_of(found: Who, people: dict[object, Principal]) -> dict[object, Cell]:
    """What each of those who are meant may do there; who they are is added to ``people``."""
    answer, question = found.answer, found.question
    known: dict[int, Cell] = {}
    cells: dict[object, Cell] = {}
    for place, who in enumerate(answer.universe.principals):
        shown = question.shows(who) and (who.kind != "group" or bool(question.gids))
        if not shown and who.kind != "anyone-else":
            continue
        alike = answer.alike[place]
        if alike not in known:
            known[alike] = tuple((right, answer.has(alike, right)) for right in answer.rights)
        key = _ANYONE_ELSE if who.kind == "anyone-else" else who.identity
        if shown:
            people.setdefault(key, who)
        cells[key] = known[alike]
    return cells


_ANYONE_ELSE = "anyone-else"


def _people(who: list[Principal]) -> People:
    named = tuple(one for one in who if one.kind != "anyone-else")
    powerful = bool(named) and all(one.holds(capabilities.DAC_OVERRIDE) for one in named)
    return People(named, len(named) < len(who), powerful and len(named) == len(who))
