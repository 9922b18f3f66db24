"""``fiat who --below``: a whole tree, equal answers together."""

import errno
from collections.abc import Iterator, Sequence
from itertools import islice
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fiat.cli.options.asked import Asked
from fiat.cli.progress import Progress
from fiat.core.ask import caveats
from fiat.core.ask.who import universe_of_postures
from fiat.core.errors import PathError
from fiat.core.model.principals import Universe
from fiat.core.rules.access import RIGHTS, Access
from fiat.core.text import visible
from fiat.core.tree import summary
from fiat.core.tree.answers import AnswerKey, Answers, TreeAccess
from fiat.core.tree.route import Route, open_end
from fiat.core.tree.summary import Group
from fiat.core.tree.survey import Survey
from fiat.core.words.selection import Selection
from fiat.render import terminal, words
from fiat.render.report import Report

_MOST = 16
"""Answers that are shown, the most frequent ones, where --all does not ask for every one."""


def answer(asked: Asked, route: Route, report: Report, chosen: Selection, *, across: bool) -> None:
    """Answer for the tree at the end of ``route``."""
    host = asked.host
    again, node = open_end(host, route.asked)
    if node is None or again.end is None:
        report.problem(PathError(route.asked, again.errno))
        return
    try:
        with Progress(report.as_text) as progress:
            survey = node.survey(across_mounts=across, progress=progress.tell)
    finally:
        node.close()
    for trouble in survey.troubles:
        report.problem(PathError(trouble.path, trouble.errno))
    for place in _to_be_said(survey):
        report.caveat(caveats.of_object(survey.object(place)))
    report.caveat(caveats.of_mounts_left_out(survey.skipped))
    if not survey.complete:
        report.caveat(caveats.of_stopping(survey.top.path, len(survey)))
        report.problem(PathError(survey.top.path, errno.EINTR, "read all of"))
    postures = (sort.posture for sort in survey.sorts)
    universe = universe_of_postures(
        asked.accounts, [*(object_.posture for object_ in again.objects), *postures], asked.processes
    )
    view = _View(asked, universe, asked.rights or RIGHTS)
    access = TreeAccess(host, Access(universe, host.settings), view.rights)
    answers = access.answers(survey, again, access.reach(again))
    taken = None if chosen.everything else survey.chosen(chosen, asked.accounts)
    if report.format == "csv":
        for path, kind, key in _entries(survey, answers, taken):
            report.add_row(view.row(path, kind, answers.keys[key]))
    elif report.format == "jsonl":
        _lines(view, survey, answers, taken, report)
    elif report.as_text and view.is_one_question:
        _print_paths(view, again, survey, answers, taken)
        report.count()
    else:
        groups = summary.groups(survey, answers, taken)
        if report.as_text:
            if report.answered:
                print()
            _print_summary(view, survey, again, groups)
            report.count()
        else:
            report.beside["complete"] = survey.complete
            for number, group in enumerate(groups, 1):
                report.add(view.group_fields(survey, again, number, group))


def _to_be_said(survey: Survey) -> list[int]:
    """The first entry of each kind that is not evaluated in full: on such a mount, so labelled, or not all read."""
    kinds: dict[tuple[object, ...], int] = {}
    for number, sort in enumerate(survey.sorts):
        kinds.setdefault((id(sort.mount), sort.label is None, sort.unknown), number)
    numbers = [number for number in kinds.values() if caveats.of_object(survey.sorts[number].at(""))]
    return [int(np.argmax(survey.sort == number)) for number in numbers]


def _entries(survey: Survey, answers: Answers, taken: NDArray[np.bool_] | None) -> Iterator[tuple[str, str, int]]:
    """The path, the kind and the number of the answer of every entry taken."""
    return _entries_at(survey, answers, range(len(survey)) if taken is None else np.flatnonzero(taken).tolist())


def _entries_at(survey: Survey, answers: Answers, places: Sequence[int]) -> Iterator[tuple[str, str, int]]:
    kinds = [sort.posture.kind.value for sort in survey.sorts]
    number, sort = answers.number, survey.sort
    for place, path in survey.paths_of(places):
        yield path, kinds[sort[place]], int(number[place])


class _View:
    """What is asked of a tree, and how sets of principals are told."""

    def __init__(self, asked: Asked, universe: Universe, rights: tuple[str, ...]) -> None:
        self.asked = asked
        self.universe = universe
        self.rights = rights
        self._told: dict[int, dict[str, Any]] = {}
        self._people: dict[int, str] = {}
        of_kind = {"user": 0, "process": 0, "group": 0, "anyone-else": 0}
        asked_about = 0
        for place, who in enumerate(universe.principals):
            of_kind[who.kind] |= 1 << place
            if asked.shows(who):
                asked_about |= 1 << place
        self.asked_about = asked_about
        self._users = (of_kind["user"] | of_kind["process"]) & asked_about
        self._groups = of_kind["group"] & asked_about
        self.anyone_else = of_kind["anyone-else"]

    @property
    def is_one_question(self) -> bool:
        """Whether one right is asked about, of somebody named: then the paths are the answer."""
        return len(self.rights) == 1 and self.asked.names_somebody

    def told(self, bits: int | None) -> dict[str, Any] | None:
        """A set of principals as machine output; None where the right does not apply."""
        if bits is None:
            return None
        found = self._told.get(bits)
        if found is None:
            members = self.universe.members
            found = self._told[bits] = {
                "users": [words.who_word(who) for who in members(bits & self._users)],
                "groups": [words.who_word(who).removeprefix("group:") for who in members(bits & self._groups)],
                "anyone_else": bool(bits & self.anyone_else),
            }
        return found

    def rights_fields(self, key: AnswerKey) -> dict[str, Any]:
        """Each right with who has it."""
        return {right: self.told(bits) for right, bits in zip(self.rights, key, strict=True)}

    def group_fields(self, survey: Survey, route: Route, number: int, group: Group) -> dict[str, Any]:
        """The machine output for one distinct answer."""
        return {
            "path": route.asked,
            "answer": number,
            "directories": group.directories,
            "others": group.others,
            "places": group.places,
            "first": [survey.path(place) for place in group.first],
            "rights": self.rights_fields(group.answer),
        }

    def row(self, path: str, kind: str, answer: AnswerKey) -> dict[str, Any]:
        """One entry in CSV: for each right the users who have it, and whether anyone else has."""
        row: dict[str, Any] = {"path": path, "kind": kind}
        for right, bits in zip(self.rights, answer, strict=True):
            told = self.told(bits)
            row[right] = None if told is None else told["users"]
            row[f"{right}_anyone_else"] = None if told is None else told["anyone_else"]
        return row

    def people(self, bits: int) -> str:
        """A set of principals in words: ``everyone``, ``nobody``, ``root, keeper; whoever is in watch``."""
        found = self._people.get(bits)
        if found is None:
            found = self._people[bits] = self._in_words(bits & self.asked_about)
        return found

    def _in_words(self, bits: int) -> str:
        if bits == self.asked_about:
            several = bits.bit_count() > 1
            return "everyone" if several else "".join(words.principal(who) for who in self.universe.members(bits))
        most = bits.bit_count() if self.asked.everyone else 6
        parts = []
        if bits & self._users:
            parts.append(self._several(bits & self._users, "users", most))
        others = bits & self.anyone_else
        if bits & self._groups and not others:
            parts.append(f"whoever is in {self._several(bits & self._groups, '', 4)}")
        if others:
            parts.append("anyone else")
        return "; ".join(parts) or "nobody"

    def _several(self, bits: int, what: str, most: int) -> str:
        """The first names, and how many more there are."""
        first = [words.principal(who) for who in islice(self.universe.members(bits), most)]
        if not what:
            first = [visible(words.who_word(who)[6:]) for who in islice(self.universe.members(bits), most)]
        return words.several_of(first, bits.bit_count(), what)


def _lines(view: _View, survey: Survey, answers: Answers, taken: NDArray[np.bool_] | None, report: Report) -> None:
    """JSON Lines: each distinct answer before the first path that has it, then a line for each path."""
    numbers: dict[int, int] = {}
    for path, kind, key in _entries(survey, answers, taken):
        number = numbers.get(key)
        if number is None:
            number = numbers[key] = len(numbers) + 1
            report.add_line({"answer": number, "rights": view.rights_fields(answers.keys[key])})
        report.add_line({"path": path, "kind": kind, "answer": number})


def _print_paths(view: _View, route: Route, survey: Survey, answers: Answers, taken: NDArray[np.bool_] | None) -> None:
    """The paths on which those named have the one right."""
    granted = np.array([bits is not None and bool(bits & view.asked_about) for (bits,) in answers.keys], np.bool_)
    asked_about = np.ones(len(survey), np.bool_) if taken is None else taken
    found = np.flatnonzero(asked_about & granted[answers.number]).tolist()
    for path, kind, _ in _entries_at(survey, answers, found):
        print(f"{visible(path)}{'/' if kind == 'directory' and path != '/' else ''}")
    total = words.counted(int(asked_about.sum()), "path")
    print(f"{terminal.INDENT}{view.rights[0]} on {len(found):,} of {total} at and below {visible(route.asked)}")


def _print_summary(view: _View, survey: Survey, route: Route, groups: list[Group]) -> None:
    directories = sum(group.directories for group in groups)
    others = sum(group.others for group in groups)
    whole = "and all below it" if survey.complete else "and a part of what is below it: stopped before the end"
    print(terminal.paint(f"{visible(route.asked)} {whole}", "strong"))
    counts = f"{words.counted(directories, 'directory', 'directories')}, {words.counted(others, 'other')}"
    print(f"{terminal.INDENT}{counts}; {words.counted(len(groups), 'distinct answer')}")
    terminal.say(_open_to_all(view, survey, groups), terminal.INDENT, hanging="  ")
    shown = groups if view.asked.everyone else groups[:_MOST]
    for group in shown:
        print()
        terminal.say(_heading(survey, group), terminal.INDENT, hanging="  ")
        same: dict[int, list[str]] = {}
        for right, bits in zip(view.rights, group.answer, strict=True):
            if bits is not None:
                same.setdefault(bits, []).append(right)
        if not same:
            print(f"{terminal.INDENT * 2}no rights of their own (symlinks)")
        width = max((len(", ".join(rights)) for rights in same.values()), default=0)
        for bits, rights in same.items():
            told = f"{', '.join(rights):<{width}}  {view.people(bits)}"
            terminal.say(told, terminal.INDENT * 2, hanging=" " * (width + 2))
    left = groups[len(shown) :]
    if left:
        paths = words.counted(sum(group.directories + group.others for group in left), "path")
        print()
        print(f"{terminal.INDENT}and {words.counted(len(left), 'more answer')}, on {paths}; --all shows every one")


def _open_to_all(view: _View, survey: Survey, groups: list[Group]) -> str:
    """What is open to anyone else: how many paths for each right, with the first of them."""
    found = []
    for place, right in enumerate(view.rights):
        having = [group for group in groups if (group.answer[place] or 0) & view.anyone_else]
        if having:
            paths = sum(group.directories + group.others for group in having)
            first = visible(survey.path(min(group.example for group in having)))
            found.append(f"{right} on {words.counted(paths, 'path')} (first {first})")
    return f"open to anyone else: {', '.join(found) or 'nothing'}"


def _heading(survey: Survey, group: Group) -> str:
    """How many objects have this answer, and where: ``12 files in /srv/a, /srv/b and 3 more``."""
    if group.directories + group.others == 1:
        path = survey.path(group.example)
        return f"{visible(path)}{'/' if group.directories and path != '/' else ''}"
    counted = []
    if group.directories:
        counted.append(words.counted(group.directories, "directory", "directories"))
    if group.others:
        counted.append(words.counted(group.others, "file"))
    where = ", ".join(visible(survey.path(place)) for place in group.first)
    more = f" and {group.places - len(group.first):,} more" if group.places > len(group.first) else ""
    below = "from" if group.directories and not group.others else "in"
    return f"{' and '.join(counted)} {below} {where}{more}"
