"""The answer of ``who`` for a whole tree: equal answers together, or each path."""

from collections.abc import Iterator
from itertools import islice

import numpy as np

from fiat.app.whobelow import TreeWho
from fiat.core.model.fields import Fields
from fiat.core.model.principals import Principal
from fiat.core.text import counted, several_of, visible
from fiat.core.tree.summary import Group, Groups
from fiat.core.words import naming
from fiat.render.againsttoday import against_today_blocks, against_today_fields
from fiat.render.belowlines import BelowLines
from fiat.render.lines import visible_texts
from fiat.render.model import BLANK, Block, Plain, Prose, Span, Verbatim, Written
from fiat.render.people import People, Shown

_MOST = 16
"""Answers that are shown, the most frequent ones, where not every one is asked for."""


class BelowView(Plain):
    """What is asked of a tree, and how sets of principals are put into words."""

    def __init__(self, found: TreeWho, *, everyone: bool, numbered: int = 0) -> None:
        self.found = found
        self.everyone = everyone
        self.universe = found.universe
        self._people: dict[int, str] = {}
        asked_about = 0
        for place, who in enumerate(found.universe.principals):
            if found.question.shows(who):
                asked_about |= 1 << place
        self.asked_about = asked_about
        of_kind = found.universe.of_kind
        self._users = (of_kind("user") | of_kind("process")) & asked_about
        self._groups = of_kind("group") & asked_about
        self._anyone_else = of_kind("anyone-else")
        shown = Shown(self._users, self._groups, self._anyone_else)
        self._lines = BelowLines(found, People(found.universe, shown), numbered)

    # --- machine output ---

    def records(self) -> Iterator[Fields]:
        """Each distinct answer."""
        survey = self.found.survey
        for number, group in enumerate(self.found.groups(), 1):
            yield {
                "path": self.found.route.asked,
                "answer": number,
                "directories": group.directories,
                "others": group.others,
                "places": group.places,
                "first": [survey.path(place) for place in group.first],
                "rights": self._lines.rights(group.answer),
            }

    def beside(self) -> Fields:
        """Whether all of the tree was read, and what supposed memberships change."""
        against = self.found.against_today
        more = {} if against is None else {"against_today": against_today_fields(against)}
        return {"complete": self.found.survey.complete, **more}

    def written(self, format: str) -> Written | None:
        """A line for each path; JSON Lines and CSV of a whole tree are written many lines at a time."""
        if format == "csv":
            return Written(self._lines.csv(), self._lines.header())
        return Written(self._lines.json()) if format == "jsonl" else None

    @property
    def numbered(self) -> int:
        """The number of the answer that was written last, so that no two trees have the same number."""
        return self._lines.numbered

    # --- text ---

    def blocks(self) -> Iterator[Block]:
        """The paths, where one right is asked about of somebody named; else each distinct answer with its people."""
        if len(self.found.rights) == 1 and self.found.question.names_somebody:
            yield from self._paths()
        else:
            yield from self._summary()
        if self.found.against_today is not None:
            yield from against_today_blocks(self.found.against_today)

    def _paths(self) -> Iterator[Block]:
        """The paths on which those named have the one right."""
        answers, taken = self.found.answers, self.found.taken
        granted = answers.keys.holding(self.asked_about, 0)
        asked_about = np.ones(len(self.found.survey), np.bool_) if taken is None else taken
        found = np.flatnonzero(asked_about & granted[answers.number])
        survey = self.found.survey
        directories = survey.directories()
        for places, paths in survey.paths_in_blocks(found):
            shown = visible_texts(paths)
            yield Verbatim(
                "\n".join(
                    f"{path}/" if directory and path != "/" else path.rstrip()
                    for path, directory in zip(shown, directories[places].tolist(), strict=True)
                )
            )
        total = counted(int(asked_about.sum()), "path")
        top = visible(self.found.route.asked)
        yield Verbatim(f"{self.found.rights[0]} on {len(found):,} of {total} at and below {top}", 1)

    def _summary(self) -> Iterator[Block]:
        survey, groups = self.found.survey, self.found.groups()
        directories, others = int(groups.directories.sum()), int(groups.others.sum())
        whole = "and all below it" if survey.complete else "and a part of what is below it: stopped before the end"
        yield Verbatim(Span(f"{visible(self.found.route.asked)} {whole}", "strong"))
        counts = f"{counted(directories, 'directory', 'directories')}, {counted(others, 'other')}"
        yield Verbatim(f"{counts}; {counted(len(groups), 'distinct answer')}", 1)
        yield Prose(self._open_to_all(groups), 1, hanging="  ")
        shown = len(groups) if self.everyone else min(len(groups), _MOST)
        for place in range(shown):
            yield from self._group(groups[place])
        if shown < len(groups):
            paths = counted(int((groups.directories + groups.others)[shown:].sum()), "path")
            left = counted(len(groups) - shown, "more answer")
            yield BLANK
            yield Verbatim(f"and {left}, on {paths}; --all shows every one", 1)

    def _group(self, group: Group) -> Iterator[Block]:
        yield BLANK
        yield Prose(self._heading(group), 1, hanging="  ")
        same: dict[int, list[str]] = {}
        for right, bits in zip(self.found.rights, group.answer, strict=True):
            if bits is not None:
                same.setdefault(bits, []).append(right.name)
        if not same:
            yield Verbatim("no rights of their own (symlinks)", 2)
        width = max((len(", ".join(rights)) for rights in same.values()), default=0)
        for bits, rights in same.items():
            yield Prose(f"{', '.join(rights):<{width}}  {self._in_words(bits)}", 2, hanging=" " * (width + 2))

    def _open_to_all(self, groups: Groups) -> str:
        """What is open to anyone else: how many paths for each right, with the first of them."""
        found = []
        for place, right in enumerate(self.found.rights):
            paths, example = groups.holding(self._anyone_else, place)
            if paths:
                first = visible(self.found.survey.path(example))
                found.append(f"{right} on {counted(paths, 'path')} (first {first})")
        return f"open to anyone else: {', '.join(found) or 'nothing'}"

    def _heading(self, group: Group) -> str:
        """How many objects have this answer, and where: ``12 files in /srv/a, /srv/b and 3 more``."""
        survey = self.found.survey
        if group.directories + group.others == 1:
            path = survey.path(group.example)
            return f"{visible(path)}{'/' if group.directories and path != '/' else ''}"
        kinds = []
        if group.directories:
            kinds.append(counted(group.directories, "directory", "directories"))
        if group.others:
            kinds.append(counted(group.others, "file"))
        where = ", ".join(visible(survey.path(place)) for place in group.first)
        more = f" and {group.places - len(group.first):,} more" if group.places > len(group.first) else ""
        below = "from" if group.directories and not group.others else "in"
        return f"{' and '.join(kinds)} {below} {where}{more}"

    def _in_words(self, bits: int) -> str:
        """A set of principals in words: ``everyone``, ``nobody``, ``root, keeper; whoever is in watch``."""
        found = self._people.get(bits)
        if found is None:
            found = self._people[bits] = self._people_words(bits & self.asked_about)
        return found

    def _people_words(self, bits: int) -> str:
        if bits == self.asked_about:
            several = bits.bit_count() > 1
            return "everyone" if several else "".join(naming.principal(who) for who in self.universe.members(bits))
        most = bits.bit_count() if self.everyone else 6
        parts = []
        if bits & self._users:
            parts.append(self._several(bits & self._users, "users", most))
        others = bits & self._anyone_else
        if bits & self._groups and not others:
            parts.append(f"whoever is in {self._several(bits & self._groups, '', 4)}")
        if others:
            parts.append("anyone else")
        return "; ".join(parts) or "nobody"

    def _several(self, bits: int, what: str, most: int) -> str:
        """The first names, and how many more there are."""
        first = [_name(who) for who in islice(self.universe.members(bits), most)]
        return several_of(first, bits.bit_count(), what)


def _name(who: Principal) -> str:
    return naming.group_of(who) if who.kind == "group" else naming.principal(who)
