"""The list of a whole tree, as a table, JSON and CSV: what entries have in common is written once, with holes for the
rest."""

import re
from collections import Counter
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from itertools import repeat
from json import dumps, loads
from operator import add, itemgetter
from random import SystemRandom
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.app.look import TreeListing
from fiat.app.treelisting import ListedEntries
from fiat.core.ask.remarks import owners_for_codes, remarks_on
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import octal
from fiat.core.model.posture import Identity, Kind, Object, Posture, Status
from fiat.core.text import Fields, visible
from fiat.core.tree.distinct import distinct_columns, distinct_values, each_once, first_places
from fiat.core.tree.profiles import Profiles
from fiat.core.tree.survey import Survey
from fiat.core.words import naming
from fiat.engine.laying import CSV, VISIBLE, Column, Shared, rows_of
from fiat.render import lines
from fiat.render.model import Block, LongTable, OutputLines, Part, PlainResult, Spans, Table, TableRows, Verbatim
from fiat.render.objects import ObjectFields, flat_row, iso_time
from fiat.render.several import by_several
from fiat.render.sheet import HEADER, NOT_ABOUT_ACCESS, cells, coloured_letters, counts, ending, more


class TreeRecords:
    """The chosen entries of a tree as records."""

    def __init__(self, found: TreeListing, accounts: Accounts) -> None:
        self._found = found
        self._accounts = accounts
        self._fields = ObjectFields(accounts)

    def json(self) -> Iterator[str]:
        """Records, with what stands between them."""
        survey, places = self._found.read()
        return by_several(places, lambda some: self._records_of(survey, some), ",\n")

    def _records_of(self, survey: Survey, places: NDArray[np.int64]) -> Iterator[str]:
        details, profiles = survey.details, survey.profiles
        assert details is not None
        link = profiles.by_rest(lambda rest: rest.posture.kind is Kind.SYMLINK)
        patterns: dict[int, _Pattern] = {}
        for some, paths in survey.paths_in_blocks(places):
            profile = survey.profile[some]
            alike = of_alike(survey, some)
            for number in each_once(alike):
                if number not in patterns:
                    patterns[number] = self._pattern(profiles[number // 2].at(_PATH), linked=bool(number % 2))
            targets = [""] * len(paths)
            for at in np.flatnonzero(link[profile]).tolist():
                targets[at] = dumps(details.targets.get(int(some[at]), ""))
            columns = (survey.links, details.size, details.changed, details.modified, survey.inode, survey.birth)
            values = zip(lines.json_texts(paths), targets, *(one[some].tolist() for one in columns), strict=True)
            written = [
                text % choose(value)
                for (text, choose), value in zip(map(patterns.__getitem__, alike.tolist()), values, strict=True)
            ]
            yield ",\n".join(written)

    def _pattern(self, like: Object, *, linked: bool) -> "_Pattern":
        """What is written of objects that are ``like`` this one, ``linked`` where they may have several names."""
        links, size, changed, modified, inode, birth = _NUMBERS
        identity = like.status.identity._replace(inode=inode, birth=birth)
        status = like.status._replace(
            identity=identity, links=links if linked else 1, size=size, changed=changed, modified=modified
        )
        found = like._replace(status=status, target=_TARGET if like.posture.kind is Kind.SYMLINK else None)
        text = dumps(self._fields.of(found, remarks_on(found, self._accounts)))
        holes = [_HOLES.index(hole) for hole in _HOLE.findall(text)]
        return _Pattern(_HOLE.sub("%s", text.replace("%", "%%")), itemgetter(*holes))


def of_alike(survey: Survey, places: NDArray[np.int64]) -> NDArray[np.int64]:
    """For each entry a number, the same for those that are alike: twice that of its profile, and 1 where several names
    lead to it, which is remarked on, or may: to a directory."""
    profile = survey.profile[places]
    directory = survey.profiles.by_rest(lambda rest: rest.posture.directory)[profile]
    number: NDArray[np.int64] = profile.astype(np.int64) * 2 + ((survey.links[places] > 1) | directory)
    return number


# --- holes ------------------------------------------------------------------------------

_PATH, _TARGET = "\0path", "\0target"
_NUMBERS = tuple(SystemRandom().sample(range(6 * 10**18, 9 * 10**18), 6))
"""What stands in a pattern for the path and the target, which no name can hold, and for links, size, times of change,
inode and birth: numbers that nobody can foresee, for a script or an account may hold any number that is known."""

_HOLES = (dumps(_PATH), dumps(_TARGET), *map(str, _NUMBERS))
_HOLE = re.compile("|".join(map(re.escape, _HOLES)))


class _Pattern(NamedTuple):
    """What is written of an object but for its holes, and what chooses, of all values, those that fill them."""

    text: str
    choose: Callable[[Sequence[Any]], Any]


_PLAIN = Posture(Kind.FILE, 0, 0, 0)
_EXAMPLE = Object("/", _PLAIN, Status(Identity("", 0)))


class TreeCsv:
    """The chosen entries of a tree as rows."""

    def __init__(self, found: TreeListing, accounts: Accounts) -> None:
        self._found = found
        self._accounts = accounts
        self._fields = ObjectFields(accounts)
        self._names = list(flat_row(self._fields.of(_EXAMPLE, ())))
        self._known: dict[tuple[str, int], list[str]] = {}
        self._codes: dict[Hashable, str] = {}
        self._owners_known: dict[tuple[int, int], Hashable] = {}

    def header(self) -> list[str]:
        """The names of the columns."""
        return self._names

    def rows(self) -> Iterator[str]:
        """The rows, many at a time."""
        survey, places = self._found.read()
        columns = self._columns_of(survey)
        compiled = rows_of(survey, CSV, lambda path: lines.csv_cells([path])[0])
        if compiled is not None:
            return compiled.rows(places, columns)
        return by_several(places, lambda some: _rows_in_python(survey, some, columns))

    def _columns_of(self, survey: Survey) -> Callable[[NDArray[np.int64]], Sequence[Column]]:
        """What gives the columns of some of the rows."""
        details = survey.details
        assert details is not None
        begins: list[str | None] = [None] * (2 * len(survey.profiles))  # what rows share, by the number of these
        ends = [*begins]
        columns = [column.tolist() for column in survey.profiles.columns]
        link = survey.profiles.by_rest(lambda rest: rest.posture.kind is Kind.SYMLINK)

        def of(some: NDArray[np.int64]) -> Sequence[Column]:
            alike = of_alike(survey, some)
            for number in each_once(alike):
                if begins[number] is None:
                    begins[number], ends[number] = self._around(
                        survey.profiles, columns, number // 2, several=number % 2 == 1
                    )
            target = _targets(details.targets, some, link[survey.profile[some]], lines.csv_text)
            changed, modified = (_iso_times(one[some]) for one in (details.changed, details.modified))
            numbers = survey.links[some].astype(np.int64), ",", details.size[some], ","
            shared = changed, ",", modified, ",", target, Shared(ends, alike)
            return None, Shared(begins, alike), *numbers, *shared

        return of

    def _around(self, profiles: Profiles, columns: list[list[int]], number: int, *, several: bool) -> tuple[str, str]:
        """What stands in a row after the path: before and after that which each entry has for itself."""
        mode, uid, gid, acl, rest = (column[number] for column in columns)
        alike = mode, acl, rest, several, self._owners(uid, gid)
        codes = self._codes.get(alike)
        if codes is None:
            found = profiles[number].at(links=2 if several else 1)
            codes = self._codes[alike] = lines.csv_text([one.code for one in remarks_on(found, self._accounts)])
        kind, besides, mount = self._cells("rest", rest, lambda: profiles.rests[rest].at())
        (of_mode,) = self._cells("mode", mode, lambda: _with(_PLAIN._replace(mode=mode)))
        (owner,) = self._cells("owner", uid, lambda: _with(_PLAIN._replace(uid=uid)))
        (group,) = self._cells("group", gid, lambda: _with(_PLAIN._replace(gid=gid)))
        (entries,) = self._cells("acl", acl, lambda: _with(_PLAIN._replace(acl=profiles.lists[acl])))
        return f",{kind},{of_mode},{owner},{group},{entries},{besides},", f",{mount},{codes}"

    def _owners(self, uid: int, gid: int) -> Hashable:
        found = self._owners_known.get((uid, gid))
        if found is None:
            found = self._owners_known[uid, gid] = owners_for_codes(uid, gid, self._accounts)
        return found

    def _cells(self, what: str, number: int, like: Callable[[], Object]) -> list[str]:
        """The cells that one part of a profile decides, those together that stand together; each is written once."""
        found = self._known.get((what, number))
        if found is None:
            row = flat_row(self._fields.of(like(), ()))
            found = self._known[what, number] = [
                ",".join([lines.csv_text(row[name]) for name in names]) for names in _DECIDED[what]
            ]
        return found


def _rows_in_python(
    survey: Survey, places: NDArray[np.int64], columns: Callable[[NDArray[np.int64]], Sequence[Column]]
) -> Iterator[str]:
    """The rows of CSV that the compiled part would make."""
    for some, paths in survey.paths_in_blocks(places):
        texts: list[Iterable[str | None]] = []
        for column in columns(some):
            if column is None:
                texts.append(lines.csv_cells(paths))
            elif isinstance(column, str):
                texts.append(repeat(column))
            elif isinstance(column, Shared):
                texts.append(map(column.texts.__getitem__, column.number.tolist()))
            else:
                texts.append(map(str, column.tolist()))
        yield "\n".join(map("".join, zip(*texts, strict=False))) + "\n"


def _targets(
    targets: Mapping[int, str], some: NDArray[np.int64], link: NDArray[np.bool_], write: Callable[[str], str]
) -> Shared:
    """Where those of some entries lead that are links; nothing for the others."""
    places = np.flatnonzero(link)
    number = np.zeros(len(some), np.int64)
    number[places] = np.arange(1, len(places) + 1)
    return Shared(["", *(write(targets.get(place, "")) for place in some[places].tolist())], number)


def _iso_times(nanoseconds: NDArray[np.int64]) -> Shared:
    """Times as :func:`fiat.render.objects.iso_time` writes them; empty where unknown."""
    seconds = nanoseconds // 10**9
    distinct, number = distinct_values(np.maximum(seconds, 0))
    told = [iso_time(second * 10**9) or "" for second in distinct.tolist()]
    return Shared(told, number.astype(np.int64))


def _with(posture: Posture) -> Object:
    return _EXAMPLE._replace(posture=posture)


_DECIDED = {
    "rest": (("kind",), ("default", "flags", "capabilities"), ("mount", "mount_options")),
    "mode": (("mode", "letters", "special"),),
    "owner": (("owner", "uid"),),
    "group": (("group", "gid"),),
    "acl": (("acl",),),
}
"""The columns that each part of a profile decides, in the order of the header."""


_OF_EACH = frozenset(("path", "links", "size", "changed", "modified", "target"))
"""Columns that rows do not share."""


class TreeListingView(PlainResult):
    """The heading, the rows, then what was counted; names are relative to the top."""

    def __init__(self, found: TreeListing) -> None:
        self.found = found
        self.accounts = found.host.accounts

    def blocks(self) -> Iterator[Block]:
        """The table of the tree, with what entries have in common written once."""
        yield Verbatim(visible(self.found.top))
        rows = TreeRows(self.found.read(), self.accounts)
        yield Table(HEADER, rows, named=True)
        yield Verbatim(counts(rows.kinds()), 1)

    def parts(self, *, text: bool) -> Iterator[Part]:
        """Each entry by itself."""
        if not text:
            for written in TreeRecords(self.found, self.accounts).json():
                yield from (Part(record, apart=NOT_ABOUT_ACCESS) for record in loads(f"[{written}]"))
            return
        survey, places = self.found.read()
        targets = survey.details.targets if survey.details is not None else {}
        under = (Verbatim(visible(self.found.top)),)
        known: dict[int, tuple[Spans, ...]] = {}
        for some, paths in survey.paths_in_blocks(places, top=""):
            for place, path, number in zip(some.tolist(), paths, survey.profile[some].tolist(), strict=True):
                posture = survey.profiles[number].posture
                if number not in known:
                    known[number] = cells(posture, self.accounts)
                name = f"{visible(path)}{ending(posture.kind)}{visible(targets.get(place, ''))}"
                yield Part(None, (Table(HEADER, ((*known[number], name),), named=True),), under=under)

    def tables(self) -> Iterator[Any]:
        """A row for each entry, with what CSV has."""
        import pyarrow

        from fiat.render import tables

        survey, places = self.found.read()
        details, alike, write = survey.details, tables.Alike(), ObjectFields(self.accounts)
        assert details is not None

        def fields(number: int) -> Fields:
            found = survey.profiles[number // 2].at(links=1 + number % 2)
            row = flat_row(write.of(found, remarks_on(found, self.accounts)))
            return {name: value for name, value in row.items() if name not in _OF_EACH}

        for begin in range(0, max(len(places), 1), tables.ROWS):
            some = places[begin : begin + tables.ROWS]
            paths = [path for _, part in survey.paths_in_blocks(some) for path in part]
            targets = [details.targets.get(place) for place in some.tolist()]
            columns = {
                **tables.path_columns(paths),
                **alike.columns(of_alike(survey, some), fields),
                "links": pyarrow.array(survey.links[some]),
                "size": pyarrow.array(details.size[some]),
                "changed": tables.times(details.changed[some]),
                "modified": tables.times(details.modified[some]),
                "target": pyarrow.array([None if one is None else visible(one) for one in targets], pyarrow.string()),
            }
            yield pyarrow.table(columns)

    def all_paths(self) -> Iterator[str]:
        """Each entry that is chosen."""
        survey, places = self.found.read()
        for _, paths in survey.paths_in_blocks(places):
            yield from paths

    def written(self, format: str) -> OutputLines | None:
        """A record or a row for each entry."""
        if format == "csv":
            table = TreeCsv(self.found, self.accounts)
            return OutputLines(table.rows(), table.header())
        if format == "json":
            return OutputLines(TreeRecords(self.found, self.accounts).json())
        return None


class TreeRows:
    """The chosen entries of a tree as rows, with names relative to the top."""

    def __init__(self, chosen: ListedEntries, accounts: Accounts) -> None:
        self._survey, self._places = chosen
        self._accounts = accounts

    def kinds(self) -> Counter[Kind]:
        """How many entries there are of each type, in the order in which they are first met."""
        kinds = list(Kind)
        of_profile = self._survey.profiles.by_rest(lambda rest: kinds.index(rest.posture.kind), np.int64)
        number = of_profile[self._survey.profile[self._places]]
        counts = np.bincount(number, minlength=len(kinds)).tolist()
        met = sorted(zip(first_places(number, len(kinds)).tolist(), kinds, counts, strict=True), key=itemgetter(0))
        return Counter({kind: count for _, kind, count in met if count})

    def __iter__(self) -> Iterator[LongTable]:
        survey, places = self._survey, self._places
        if not len(places):
            return
        used = np.flatnonzero(np.bincount(survey.profile[places], minlength=len(survey.profiles)))
        cells = zip(*self._columns(survey.profiles.taken(used)), strict=True)
        yield LongTable(
            dict(zip(used.tolist(), cells, strict=True)),
            lambda layout: by_several(places, lambda some: map(layout, self._some(some)), "\n"),
            self._whole,
        )

    def _whole(self, begins: Mapping[int, str]) -> Iterator[str] | None:
        """All rows, where there is a compiled part."""
        survey = self._survey
        compiled = rows_of(survey, VISIBLE, visible, top="")
        if compiled is None:
            return None
        kinds = list(Kind)
        kind = survey.profiles.by_rest(lambda rest: kinds.index(rest.posture.kind), np.int64)
        ends = [ending(one) for one in kinds]
        of_profile = [begins.get(number) for number in range(len(survey.profiles))]
        targets = survey.details.targets if survey.details is not None else {}

        def columns(some: NDArray[np.int64]) -> Sequence[Column]:
            profile = survey.profile[some].astype(np.int64)
            of_each = kind[profile]
            target = _targets(targets, some, of_each == kinds.index(Kind.SYMLINK), visible)
            return Shared(of_profile, profile), None, Shared(ends, of_each), target

        return compiled.rows(self._places, columns, strip=True)

    def _some(self, places: NDArray[np.int64]) -> Iterator[TableRows]:
        """The rows of some of the entries."""
        survey = self._survey
        ends = survey.profiles.by_rest(lambda rest: ending(rest.posture.kind), np.object_)
        targets = survey.details.targets if survey.details is not None else {}
        for some, paths in survey.paths_in_blocks(places, top=""):
            profile = survey.profile[some]
            names = list(map(add, lines.visible_texts(paths), ends[profile].tolist()))
            if targets:
                for at, place in enumerate(some.tolist()):
                    if place in targets:
                        names[at] += visible(targets[place])
            yield TableRows(profile.tolist(), names)

    def _columns(self, profiles: Profiles) -> Iterator[list[Spans]]:
        """The cells of each column but the last, for each of the profiles."""
        mode, uid, gid, acl, rest = profiles.columns
        accounts, kinds = self._accounts, list(Kind)

        def by(values: Callable[[int], Spans], *of: NDArray[np.int64]) -> list[Spans]:
            first, number = distinct_columns(*of)
            return [*map(list(map(values, first.tolist())).__getitem__, number.tolist())]

        yield by(lambda one: octal(int(mode[one])), mode)
        kind = profiles.by_rest(lambda rest: kinds.index(rest.posture.kind), np.int64)
        yield by(lambda one: coloured_letters(int(mode[one]), kinds[int(kind[one])]), mode, kind)
        yield by(lambda one: naming.user_or_number(int(uid[one]), accounts), uid)
        yield by(lambda one: naming.group_or_number(int(gid[one]), accounts), gid)
        yield by(lambda one: more(profiles[one].posture), acl, rest)
