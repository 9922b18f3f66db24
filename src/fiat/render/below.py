"""The answer of ``who`` for a whole tree: equal answers together, or each path."""

from collections.abc import Iterator, Sequence
from itertools import chain
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fiat.app.whobelow import TreeWho
from fiat.core.model.right import CHANGING
from fiat.core.text import Fields, counted, natural_order, several, visible
from fiat.core.tree.answerkeys import AnswerKey
from fiat.core.tree.distinct import first_places
from fiat.core.tree.summary import AnswerGroup, Groups, Row, Standing, Topmost
from fiat.core.words import naming
from fiat.core.words.naming import ExactPeople, PeopleWords, rank_of, ranked
from fiat.render import lines
from fiat.render.againsttoday import against_today_blocks, against_today_fields
from fiat.render.lines import visible_texts
from fiat.render.model import BLANK, Block, OutputLines, Part, PlainResult, Prose, Span, Verbatim, unbroken
from fiat.render.people import PeopleFields, ShownPeople
from fiat.render.several import by_several


class BelowLines:
    """Writes the entries that were asked about; answers are counted from ``numbered`` on."""

    def __init__(self, found: TreeWho, people: PeopleFields, numbered: int, *, each_person: bool = False) -> None:
        self.found = found
        self.numbered = numbered
        self._people = people
        self._each = each_person
        survey = found.survey
        self._kinds = [rest.posture.kind.value for rest in survey.profiles.rests]
        self._places = np.arange(len(survey)) if found.taken is None else np.flatnonzero(found.taken)

    def rights(self, key: AnswerKey, opened: AnswerKey) -> Fields:
        """Each right with who has it, and of whom it is not known."""
        rights = zip(self.found.rights, key, opened, strict=True)
        return {right.name: self._people.fields(bits, is_open) for right, bits, is_open in rights}

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
                sets = map(self._people.json, keys[answers[at]], keys.open(answers[at]))
                rights = ", ".join(f'"{name}": {one}' for name, one in zip(names, sets, strict=True))
                written[at] = f'{{"answer": {numbers[answers[at]]}, "rights": {{{rights}}}}}\n{written[at]}'
            yield "".join(written)

    def header(self) -> list[str]:
        """The names of the columns of CSV."""
        if self._each:
            return ["path", "kind", "who", "name", "number", *(one.name for one in self.found.rights)]
        return [
            "path",
            "kind",
            *chain.from_iterable((one.name, f"{one.name}_anyone_else") for one in self.found.rights),
        ]

    def tables(self) -> Iterator[Any]:
        """What CSV has, as tables."""
        import pyarrow

        from fiat.render import tables

        names, alike = self.header()[1:], tables.Alike()
        survey, keys = self.found.survey, self.found.answers.keys
        rest, count = survey.profiles.columns.rest, len(self._kinds)
        for begin in range(0, max(len(self._places), 1), tables.ROWS):
            places = self._places[begin : begin + tables.ROWS]
            paths = [path for _, some in survey.paths_in_blocks(places) for path in some]
            numbers = self.found.answers.number[places].astype(np.int64) * count + rest[survey.profile[places]]

            def fields(number: int) -> Fields:
                people = map(self._people.fields, keys[number // count])
                each = ((one["users"], one["anyone_else"]) if one else (None, None) for one in people)
                return dict(zip(names, (self._kinds[number % count], *chain.from_iterable(each)), strict=True))

            yield pyarrow.table({**tables.path_columns(paths), **alike.columns(numbers, fields)})

    def csv(self) -> Iterator[str]:
        """CSV: each path, for each right the users who have it, and whether anyone else has; or a row for each path
        and person."""
        return by_several(self._places, self._csv_of_each if self._each else self._csv_of)

    def _csv_of_each(self, places: NDArray[np.int64]) -> Iterator[str]:
        """Of each path a row for each user, group, process and anyone else that is asked about."""
        ends: dict[int, list[str]] = {}
        keys = self.found.answers.keys
        for _, answers, kinds, alike, paths in self._blocks(places):
            for place in _first_places(alike):
                if alike[place] not in ends:
                    ends[alike[place]] = list(
                        self._rows_of(kinds[place], keys[answers[place]], keys.open(answers[place]))
                    )
            cells = zip(lines.csv_cells(paths), alike, strict=True)
            yield "".join(path + end for path, kind in cells for end in ends[kind])

    def _rows_of(self, kind: str, key: AnswerKey, opened: AnswerKey) -> Iterator[str]:
        """What stands after the path, for each person."""
        for place, who in enumerate(self.found.universe.principals):
            if self.found.question.shows(who):
                number = who.pid or (next(iter(who.gids)) if who.kind == "group" else who.uid)
                has = [
                    None if bits is None or (unknown or 0) >> place & 1 else bool(bits >> place & 1)
                    for bits, unknown in zip(key, opened, strict=True)
                ]
                yield f",{lines.csv_row(map(lines.csv_cell, (kind, who.kind, who.name, number, *has)))}\n"

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


_MEANS = "what people can bring about by their own means counts, of each object or of what is found under its name"

_MOST = 16
"""Answers that are shown, the most frequent ones, where not every one is asked for."""


class BelowView(PlainResult):
    """What is asked of a tree, and how sets of principals are put into words.

    With ``everyone``, each answer and each path is shown; with ``topmost`` machine
    output has a row for the topmost paths alone.
    """

    def __init__(
        self,
        found: TreeWho,
        *,
        everyone: bool,
        numbered: int = 0,
        topmost: bool = False,
        paths: bool = False,
        each_person: bool = False,
    ) -> None:
        self.found = found
        self.everyone = everyone
        self.topmost = topmost
        self.paths = paths
        self.universe = found.universe
        self._known: dict[object, str] = {}
        self._known_exactly: dict[int, ExactPeople] = {}
        asked_about = 0
        for place, who in enumerate(found.universe.principals):
            if found.question.shows(who):
                asked_about |= 1 << place
        self._asked_about = asked_about
        of_kind = found.universe.of_kind
        self._people = PeopleWords(found.universe, found.question.asked_of.accounts, asked_about)
        self._anyone_else = of_kind("anyone-else")
        shown = ShownPeople(
            (of_kind("user") | of_kind("process")) & asked_about, of_kind("group") & asked_about, self._anyone_else
        )
        self._lines = BelowLines(
            found, PeopleFields(found.universe, shown, self._people.words), numbered, each_person=each_person
        )

    # --- machine output ---

    def records(self) -> Iterator[Fields]:
        """Each distinct answer; or the topmost paths."""
        if self.topmost:
            yield from self.rows()
            return
        survey, groups = self.found.survey, self.found.groups()
        rows = self.found.by_owner()
        order = {row: place for place, row in enumerate(groups.by(rows.number, len(rows)).answer.tolist(), 1)}
        of_answer = rows.rows_of_answers()
        for number, group in enumerate(groups, 1):
            yield {
                "path": self.found.route.asked,
                "answer": number,
                "rows": sorted(order[row] for row in of_answer[int(groups.answer[number - 1])]),
                "directories": group.directories,
                "others": group.others,
                "places": group.places,
                "first": [survey.path(place) for place in group.first],
                "rights": self._lines.rights(group.answer, group.open),
            }

    def parts(self, *, text: bool) -> Iterator[Part]:
        """Of each answer how many paths have it; or each of the topmost paths."""
        path = self.found.route.asked
        if not text:
            if self.topmost:
                yield from (Part(row, counted=("paths",)) for row in self.rows())
            else:
                for record in self.records():
                    yield Part(record, (), ("directories", "others", "places"), ("answer", "rows", "first"))
        elif self._is_list:
            directory, none = self.found.survey.directories(), True
            who = f"{self._words(self._asked_about)}: {self._list_of_rights}"
            for top in self.found.topmost():
                none = False
                fields = self._top_fields(top)
                yield Part(
                    fields,
                    counted=("below",),
                    same=f"{bool(directory[top.place])} {[fields[name] for name in ('path', 'itself', 'except')]}",
                    heading=_directory_line if directory[top.place] else _file_line,
                    under=(Prose(f"{who} at and below {visible(path)}", hanging="  "),),
                )
            if none:
                yield Part(None, (Prose(f"{who} nothing at or below {visible(path)}", hanging="  "),))
        else:
            for fields, said, exactly in self._shown_answers():
                yield Part(
                    {"path": path, **fields},
                    tuple(self._rights_words(said)),
                    ("directories", "others", "places"),
                    ("first",),
                    "\n".join(f"{one}" for one in said),
                    exactly,
                    heading_of,
                )

    def _shown_answers(self) -> Iterator[tuple[Fields, list[str | None], tuple[object, ...]]]:
        """Each answer that text tells apart: how many paths it has, who has which right, and exactly who."""
        survey, groups = self.found.survey, self.found.groups()
        named = self.found.question.names_somebody
        rows = None if self.everyone or named else self.found.by_owner()
        number, of_named = self._of_named() if named else (None, None)
        shown = groups if rows is None else groups.by(rows.number, len(rows))
        if number is not None and of_named is not None:
            shown = groups.by(number, len(of_named))
        for place, number_of_answer in enumerate(shown.answer.tolist()):
            group = shown[place]
            if rows is not None:
                said = self._by_owner(rows[number_of_answer])
                exactly = tuple(self._exactly_by_owner(rows[number_of_answer]))
            else:
                answer = group.answer if of_named is None else of_named[number_of_answer]
                said = [None if bits is None else self._words(bits) for bits in answer]
                exactly = tuple(self._exactly(bits) for bits in answer)
            fields = {"directories": group.directories, "others": group.others, "places": group.places}
            yield {**fields, "first": [survey.path(place) for place in group.first]}, said, exactly

    def _exactly(self, bits: int | None) -> ExactPeople | None:
        if bits is None:
            return None
        found = self._known_exactly.get(bits)
        if found is None:
            found = self._known_exactly[bits] = self._people.exactly(bits)
        return found

    def _exactly_by_owner(self, row: Row) -> Iterator[object]:
        """Who the owners and the groups are, and who has each right besides."""
        accounts = self._people.accounts
        yield sorted(naming.user_or_number(uid, accounts) for uid in row.uids)
        yield sorted(naming.group_or_number(gid, accounts) for gid in row.gids)
        for one in row.rights:
            if one is not None:
                yield one.owner, one.group, self._exactly(self._put_together(one, row))

    def envelope(self) -> Fields:
        """Whether all of the tree was read, and what supposed memberships change."""
        against = self.found.against_today
        more = {} if against is None else {"against_today": against_today_fields(against)}
        return {"complete": self.found.survey.complete, **more}

    def rows(self) -> Iterator[Fields]:
        """The topmost paths, below which it is the same everywhere, or nearly."""
        survey = self.found.survey
        kinds = [rest.posture.kind.value for rest in survey.profiles.rests]
        for top in self.found.topmost():
            yield {
                "path": survey.path(top.place),
                "kind": kinds[int(survey.profiles.columns.rest[survey.profile[top.place]])],
                "paths": top.paths,
                "itself": top.itself,
                "except": [survey.path(place) for place in top.but],
            }

    def lines(self) -> Iterator[Fields]:
        """One record for each entry that is meant, for JSON Lines."""
        return self.rows()

    def written(self, format: str) -> OutputLines | None:
        """A line for each path; JSON Lines and CSV of a whole tree are written many lines at a time."""
        if self.topmost:
            return None
        if format == "csv":
            return OutputLines(self._lines.csv(), self._lines.header())
        return OutputLines(self._lines.json()) if format == "jsonl" else None

    def all_paths(self) -> Iterator[str]:
        """Each path on which it is so."""
        survey, taken = self.found.survey, self.found.taken
        places = np.arange(len(survey)) if taken is None else np.flatnonzero(taken)
        for _, paths in survey.paths_in_blocks(places):
            yield from paths

    def tables(self) -> Iterator[Any]:
        """A row for each path: its kind, and for each right who has it."""
        return self._lines.tables()

    @property
    def numbered(self) -> int:
        """The number of the answer that was written last, so that no two trees have the same number."""
        return self._lines.numbered

    # --- text ---

    def blocks(self) -> Iterator[Block]:
        """The paths, where one right is asked about of somebody named; else each distinct answer with its people."""
        if self._is_list:
            yield from self._paths()
        else:
            yield from self._summary()
        if self.found.against_today is not None:
            yield from against_today_blocks(self.found.against_today, self._people.accounts, paths=self.paths)

    @property
    def _is_list(self) -> bool:
        """Whether one right is asked about of somebody named, and paths are listed."""
        question = self.found.question
        return self.found.taken is not None and len(question.asked) == 1 and question.names_somebody

    @property
    def _list_of_rights(self) -> str:
        return "execute or traverse" if len(self.found.rights) > 1 else self.found.rights[0].name

    def _paths(self) -> Iterator[Block]:
        """The paths on which those named have the one right: the topmost, or each of them."""
        survey, taken = self.found.survey, self.found.taken
        assert taken is not None
        if self.everyone:
            directories = survey.directories()
            for places, paths in survey.paths_in_blocks(np.flatnonzero(taken)):
                shown = visible_texts(paths)
                yield Verbatim(
                    "\n".join(
                        f"{path}/" if directory and path != "/" else path.rstrip()
                        for path, directory in zip(shown, directories[places].tolist(), strict=True)
                    )
                )
        else:
            directory = survey.directories()
            for top in self.found.topmost():
                yield Verbatim(self._topmost(top, directory=bool(directory[top.place])))
        whole = len(survey) if self.found.meant is None else int(self.found.meant.sum())
        top_path = visible(self.found.route.asked)
        if self.found.own_means:
            yield Prose(f"{_MEANS}:", 1, hanging="  ")
        of_all = f"{int(taken.sum()):,} of {counted(whole, 'path')}"
        yield Verbatim(f"{self._list_of_rights} on {of_all} at and below {top_path}", 1)

    def _topmost(self, top: Topmost, *, directory: bool) -> str:
        """One of the topmost paths, and what it stands for."""
        return _topmost_words(self._top_fields(top), directory=directory)

    def _top_fields(self, top: Topmost) -> Fields:
        survey = self.found.survey
        return {
            "path": survey.path(top.place),
            "below": top.paths - top.itself,
            "itself": top.itself,
            "except": [survey.path(place) for place in top.but],
        }

    def _summary(self) -> Iterator[Block]:
        survey, groups = self.found.survey, self.found.groups()
        directories, others = int(groups.directories.sum()), int(groups.others.sum())
        whole = "and all below it" if survey.complete else "and a part of what is below it: stopped before the end"
        yield Verbatim(Span(f"{visible(self.found.route.asked)} {whole}", "strong"))
        named = self.found.question.names_somebody
        number, of_named = self._of_named() if named else (None, None)
        rows = None if self.everyone or named else self.found.by_owner()
        counts = f"{counted(directories, 'directory', 'directories')}, {counted(others, 'other')}"
        told = f"; {counted(len(groups), 'distinct answer')}"
        if rows is not None and len(rows) < len(groups):
            told += f", {len(rows):,} but for who owns what"
        shown = groups if rows is None else groups.by(rows.number, len(rows))
        if number is not None and of_named is not None:
            shown = groups.by(number, len(of_named))
            told = f"; {counted(len(shown), 'distinct answer')}"
        yield Verbatim(counts + told, 1)
        if self.found.own_means:
            yield Prose(_MEANS, 1, hanging="  ")
        if named:
            yield Prose(self._what_they_have(), 1, hanging="  ")
        else:
            yield Prose(["open to anyone else: ", *self._open_to_all(groups)], 1, hanging="  ")
        most = len(shown) if self.everyone else min(len(shown), _MOST)
        for place in range(most):
            group = shown[place]
            if of_named is not None:
                said = [None if bits is None else self._words(bits) for bits in of_named[int(shown.answer[place])]]
            elif rows is None:
                said = [None if bits is None else self._words(bits) for bits in group.answer]
            else:
                said = self._by_owner(rows[int(shown.answer[place])])
            yield from self._group(group, said)
        if most < len(shown):
            paths = counted(int((shown.directories + shown.others)[most:].sum()), "path")
            left = counted(len(shown) - most, "more answer")
            yield BLANK
            yield Verbatim(f"and {left}, on {paths}; --all shows every one", 1)

    def _of_named(self) -> tuple[NDArray[np.int32], list[AnswerKey]]:
        """For each entry the number of its answer about those who are asked about alone, and these answers."""
        found, keys = self.found, self.found.answers.keys
        distinct: dict[AnswerKey, int] = {}
        number = np.zeros(len(keys), np.int32)
        for place in range(len(keys)):
            key = tuple(None if bits is None else bits & self._asked_about for bits in keys[place])
            number[place] = distinct.setdefault(key, len(distinct))
        each = number[found.answers.number]
        return (each if found.taken is None else np.where(found.taken, each, np.int32(-1))), list(distinct)

    def _what_they_have(self) -> str:
        """On how many paths those who are asked about have each right."""
        found = self.found
        number = found.answers.number if found.taken is None else found.answers.number[found.taken]
        told = []
        for place, right in enumerate(found.rights):
            count = int(found.answers.keys.holding(self._asked_about, place)[number].sum())
            told.append(f"{right.name} on {counted(count, 'path')}" if count else f"{right.name} nowhere")
        return f"{self._words(self._asked_about)}: {', '.join(told)}"

    def _group(self, group: AnswerGroup, said: Sequence[str | None]) -> Iterator[Block]:
        """Where an answer is found, and who has which right by it."""
        yield BLANK
        yield Prose(self._heading(group), 1, hanging="  ")
        yield from self._rights_words(said)

    def _rights_words(self, said: Sequence[str | None]) -> Iterator[Block]:
        same: dict[str, list[str]] = {}
        for right, people in zip(self.found.rights, said, strict=True):
            if people is not None:
                same.setdefault(people, []).append(right.name)
        if not same:
            yield Verbatim("no rights of their own (symlinks)", 2)
        width = max((len(", ".join(rights)) for rights in same.values()), default=0)
        for people, rights in same.items():
            open_to_all = people.startswith("everyone") and any(one.name in rights for one in CHANGING)
            told: list[str | Span] = [f"{', '.join(rights):<{width}}  ", Span(people, "no" if open_to_all else "")]
            yield Prose(told, 2, hanging=" " * (width + 2))

    def _open_to_all(self, groups: Groups) -> list[str | Span]:
        """What is open to anyone else: how many paths for each right, with the first of them."""
        found: list[str | Span] = []
        for place, right in enumerate(self.found.rights):
            paths, example = groups.holding(self._anyone_else, place)
            if paths:
                first = unbroken(visible(self.found.survey.path(example)))
                begin, style = ", " if found else "", "no" if right in CHANGING else ""
                found += [begin, Span(f"{right} on {counted(paths, 'path')}", style), f" (first {first})"]
        return found or ["nothing"]

    def _heading(self, group: AnswerGroup) -> str:
        """How many objects have this answer, and where: ``12 files in /srv/a, /srv/b and 3 more``."""
        survey = self.found.survey
        if group.directories + group.others == 1:
            path = survey.path(group.example)
            return f"{unbroken(visible(path))}{'/' if group.directories and path != '/' else ''}"
        return _counts_and_places(
            group.directories, group.others, [survey.path(place) for place in group.first], group.places
        )

    # --- people ---

    def _words(self, bits: int) -> str:
        """A set of principals in words."""
        found = self._known.get(bits)
        if found is None:
            most = bits.bit_count() if self.everyone else 6
            found = self._known[bits] = self._people.words(bits, most)
        return found

    def _by_owner(self, row: Row) -> list[str | None]:
        """Who has each right, where it is said of several owners or groups at once; these are named once."""
        accounts = self._people.accounts
        users = [(naming.user_or_number(uid, accounts), rank_of(uid, accounts)) for uid in row.uids]
        users.sort(key=lambda one: natural_order(one[0]))
        shared = sorted((naming.group_or_number(gid, accounts) for gid in row.gids), key=natural_order)
        owners = _Named("its owner", ranked(users, 3, "owners"))
        groups = _Named("its group", several(shared, "groups", 3))
        return [None if one is None else self._standing(one, row, owners, groups) for one in row.rights]

    def _put_together(self, one: Standing, row: Row) -> int:
        """Who has a right, with an owner or a group that is the only one."""
        uid = row.uids[0] if len(row.uids) == 1 else None
        gid = row.gids[0] if len(row.gids) == 1 else None
        return one.put_together(self.universe, uid=uid, gid=gid)

    def _standing(self, one: Standing, row: Row, owners: "_Named", groups: "_Named") -> str:
        """Who has one right; an owner or a group that is the only one is called by name."""
        bits = self._put_together(one, row)
        one_owner, one_group = len(row.uids) == 1, len(row.gids) == 1
        first = owners.said() if not one_owner and one.owner is not None and one.owner is not one.open else ""
        by_group = one.group is not None and one.group is not one.open
        of_group = groups.said() if not one_group and by_group else ""
        if not one_owner and by_group and not first:  # though they may be in the group
            return f"{self._people.words(bits, groups_first=of_group)}, but not {owners.said()}"
        return self._people.words(bits, first=first, groups_first=of_group) if first or of_group else self._words(bits)


def _topmost_words(top: Fields, *, directory: bool) -> str:
    path = visible(top["path"])
    if not directory:
        return path
    path = path.rstrip("/") + "/"
    if not top["itself"]:
        return f"{path}  (all {top['below']:,} that are meant below it, not itself)"
    below = counted(top["below"], "path")
    if top["except"]:
        under = len(top["path"].rstrip("/")) + 1
        names = ", ".join(visible(one[under:]) for one in top["except"])
        return f"{path}  (and all below it except {names}: {below})"
    return f"{path}  (and all below it: {below})" if top["below"] else path


def _file_line(top: Fields) -> Block:
    return Verbatim(_topmost_words(top, directory=False), 1)


def _directory_line(top: Fields) -> Block:
    """A directory on several hosts, with what is under it, in all of them."""
    return Verbatim(_topmost_words(top, directory=True), 1)


def _counts_and_places(directories: int, others: int, first: Sequence[str], places: int) -> str:
    kinds = []
    if directories:
        kinds.append(counted(directories, "directory", "directories"))
    if others:
        kinds.append(counted(others, "file"))
    where = ", ".join(unbroken(visible(path)) for path in first)
    more = f" and {places - len(first):,} more" if places > len(first) else ""
    below = "from" if directories and not others else "in"
    return f"{' and '.join(kinds)} {below} {where}{more}"


def heading_of(fields: Fields) -> Block:
    """How many objects of several hosts have an answer, and where."""
    first = fields["first"]
    where = _counts_and_places(fields["directories"], fields["others"], first, len(first))
    return Prose(where + (" and elsewhere" if fields["places"] > len(first) else ""), 1, hanging="  ")


class _Named:
    """Several owners, or groups, that are named where they are first spoken of."""

    def __init__(self, which: str, names: str) -> None:
        self._which = which
        self._names = f" ({names})"

    def said(self) -> str:
        """``its owner (24 owners: keeper, surveyor and 22 more)``, then ``its owner``."""
        names, self._names = self._names, ""
        return self._which + names
