"""The answer of ``who`` for a whole tree: equal answers together, or each path."""

from collections.abc import Iterator, Sequence

import numpy as np

from fiat.app.whobelow import TreeWho
from fiat.core.model.fields import Fields
from fiat.core.model.right import CHANGING
from fiat.core.text import counted, natural_order, several, visible
from fiat.core.tree.byowner import Row, Standing
from fiat.core.tree.summary import Group, Groups
from fiat.core.tree.topmost import Topmost
from fiat.core.words import naming
from fiat.core.words.people import People, rank_of, ranked
from fiat.render.againsttoday import against_today_blocks, against_today_fields
from fiat.render.belowlines import BelowLines
from fiat.render.lines import visible_texts
from fiat.render.model import BLANK, Block, Plain, Prose, Span, Verbatim, Written, unbroken
from fiat.render.people import PeopleFields, Shown

_MOST = 16
"""Answers that are shown, the most frequent ones, where not every one is asked for."""


class BelowView(Plain):
    """What is asked of a tree, and how sets of principals are put into words.

    With ``everyone``, each answer and each path is shown; with ``topmost`` machine
    output has a row for the topmost paths alone.
    """

    def __init__(self, found: TreeWho, *, everyone: bool, numbered: int = 0, topmost: bool = False) -> None:
        self.found = found
        self.everyone = everyone
        self.topmost = topmost
        self.universe = found.universe
        self._known: dict[object, str] = {}
        asked_about = 0
        for place, who in enumerate(found.universe.principals):
            if found.question.shows(who):
                asked_about |= 1 << place
        of_kind = found.universe.of_kind
        self._people = People(found.universe, found.question.asked_of.accounts, asked_about)
        self._anyone_else = of_kind("anyone-else")
        shown = Shown(
            (of_kind("user") | of_kind("process")) & asked_about, of_kind("group") & asked_about, self._anyone_else
        )
        self._lines = BelowLines(found, PeopleFields(found.universe, shown, self._people.words), numbered)

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
                "rights": self._lines.rights(group.answer),
            }

    def beside(self) -> Fields:
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
        """The same."""
        return self.rows()

    def written(self, format: str) -> Written | None:
        """A line for each path; JSON Lines and CSV of a whole tree are written many lines at a time."""
        if self.topmost:
            return None
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
        if self.found.taken is not None and len(self.found.question.asked) == 1 and self.found.question.names_somebody:
            yield from self._paths()
        else:
            yield from self._summary()
        if self.found.against_today is not None:
            yield from against_today_blocks(self.found.against_today, self._people.accounts)

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
        rights = "execute or traverse" if len(self.found.rights) > 1 else self.found.rights[0].name
        yield Verbatim(f"{rights} on {int(taken.sum()):,} of {counted(whole, 'path')} at and below {top_path}", 1)

    def _topmost(self, top: Topmost, *, directory: bool) -> str:
        """One of the topmost paths, and what it stands for."""
        survey = self.found.survey
        path = visible(survey.path(top.place))
        if not directory:
            return path
        path = path.rstrip("/") + "/"
        if not top.itself:
            return f"{path}  (all {top.paths:,} that are meant below it, not itself)"
        below = counted(top.paths - 1, "path")
        if top.but:
            under = len(survey.path(top.place).rstrip("/")) + 1
            names = ", ".join(visible(survey.path(place)[under:]) for place in top.but)
            return f"{path}  (and all below it except {names}: {below})"
        return f"{path}  (and all below it: {below})" if top.paths > 1 else path

    def _summary(self) -> Iterator[Block]:
        survey, groups = self.found.survey, self.found.groups()
        directories, others = int(groups.directories.sum()), int(groups.others.sum())
        whole = "and all below it" if survey.complete else "and a part of what is below it: stopped before the end"
        yield Verbatim(Span(f"{visible(self.found.route.asked)} {whole}", "strong"))
        rows = None if self.everyone else self.found.by_owner()
        counts = f"{counted(directories, 'directory', 'directories')}, {counted(others, 'other')}"
        told = f"; {counted(len(groups), 'distinct answer')}"
        if rows is not None and len(rows) < len(groups):
            told += f", {len(rows):,} but for who owns what"
        yield Verbatim(counts + told, 1)
        yield Prose(["open to anyone else: ", *self._open_to_all(groups)], 1, hanging="  ")
        shown = groups if rows is None else groups.by(rows.number, len(rows))
        most = len(shown) if self.everyone else min(len(shown), _MOST)
        for place in range(most):
            group = shown[place]
            if rows is None:
                said = [None if bits is None else self._words(bits) for bits in group.answer]
            else:
                said = self._by_owner(rows[int(shown.answer[place])])
            yield from self._group(group, said)
        if most < len(shown):
            paths = counted(int((shown.directories + shown.others)[most:].sum()), "path")
            left = counted(len(shown) - most, "more answer")
            yield BLANK
            yield Verbatim(f"and {left}, on {paths}; --all shows every one", 1)

    def _group(self, group: Group, said: Sequence[str | None]) -> Iterator[Block]:
        """Where an answer is found, and who has which right by it."""
        yield BLANK
        yield Prose(self._heading(group), 1, hanging="  ")
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

    def _heading(self, group: Group) -> str:
        """How many objects have this answer, and where: ``12 files in /srv/a, /srv/b and 3 more``."""
        survey = self.found.survey
        if group.directories + group.others == 1:
            path = survey.path(group.example)
            return f"{unbroken(visible(path))}{'/' if group.directories and path != '/' else ''}"
        kinds = []
        if group.directories:
            kinds.append(counted(group.directories, "directory", "directories"))
        if group.others:
            kinds.append(counted(group.others, "file"))
        where = ", ".join(unbroken(visible(survey.path(place))) for place in group.first)
        more = f" and {group.places - len(group.first):,} more" if group.places > len(group.first) else ""
        below = "from" if group.directories and not group.others else "in"
        return f"{' and '.join(kinds)} {below} {where}{more}"

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

    def _standing(self, one: Standing, row: Row, owners: "_Named", groups: "_Named") -> str:
        """Who has one right; an owner or a group that is the only one is called by name."""
        uid = row.uids[0] if len(row.uids) == 1 else None
        gid = row.gids[0] if len(row.gids) == 1 else None
        bits = one.put_together(self.universe, uid=uid, gid=gid)
        first = owners.said() if uid is None and one.owner is not one.open else ""
        by_group = one.group is not None and one.group is not one.open
        of_group = groups.said() if gid is None and by_group else ""
        if uid is None and by_group and not first:  # though they may be in the group
            return f"{self._people.words(bits, groups_first=of_group)}, but not {owners.said()}"
        return self._people.words(bits, first=first, groups_first=of_group) if first or of_group else self._words(bits)


class _Named:
    """Several owners, or groups, that are named where they are first spoken of."""

    def __init__(self, which: str, names: str) -> None:
        self._which = which
        self._names = f" ({names})"

    def said(self) -> str:
        """``its owner (24 owners: keeper, surveyor and 22 more)``, then ``its owner``."""
        names, self._names = self._names, ""
        return self._which + names
