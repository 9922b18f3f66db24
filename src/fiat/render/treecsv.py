"""The list of a whole tree as CSV: cells are written once for all entries that have them in common."""

from collections.abc import Callable, Hashable, Iterator

import numpy as np
from numpy.typing import NDArray

from fiat.app.look import TreeListing
from fiat.core.ask.remarks import owners_for_codes, remarks_on
from fiat.core.model.accounts import Accounts
from fiat.core.model.identity import Identity
from fiat.core.model.kind import Kind
from fiat.core.model.posture import Object, Posture, Status
from fiat.core.tree.distinct import distinct_values, each_once
from fiat.core.tree.profiles import Profiles
from fiat.core.tree.survey import Survey
from fiat.render import lines
from fiat.render.objects import ObjectFields, flat_row, iso_time
from fiat.render.several import by_several
from fiat.render.treerecords import of_alike

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
        return by_several(places, lambda some: self._rows_of(survey, some))

    def _rows_of(self, survey: Survey, places: NDArray[np.int64]) -> Iterator[str]:
        details = survey.details
        assert details is not None
        begins: dict[int, str] = {}
        ends: dict[int, str] = {}
        columns = [column.tolist() for column in survey.profiles.columns]
        link = survey.profiles.by_rest(lambda rest: rest.posture.kind is Kind.SYMLINK)
        for some, paths in survey.paths_in_blocks(places):
            alike = of_alike(survey, some)
            for number in each_once(alike):
                if number not in begins:
                    begins[number], ends[number] = self._around(
                        survey.profiles, columns, number // 2, several=number % 2 == 1
                    )
            targets = [""] * len(paths)
            for at in np.flatnonzero(link[survey.profile[some]]).tolist():
                targets[at] = lines.csv_text(details.targets.get(int(some[at])))
            columns_of_each = (survey.links, details.size)
            times = (_iso_times(one[some]) for one in (details.changed, details.modified))
            each = zip(
                lines.csv_cells(paths),
                alike.tolist(),
                *(one[some].tolist() for one in columns_of_each),
                *times,
                targets,
                strict=True,
            )
            yield "".join(
                [
                    f"{path}{begins[number]}{links},{size},{changed},{modified},{target}{ends[number]}"
                    for path, number, links, size, changed, modified, target in each
                ]
            )

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
        return f",{kind},{of_mode},{owner},{group},{entries},{besides},", f",{mount},{codes}\n"

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


def _iso_times(nanoseconds: NDArray[np.int64]) -> list[str]:
    """Times as :func:`fiat.render.objects.iso_time` writes them; empty where unknown."""
    seconds = nanoseconds // 10**9
    distinct, number = distinct_values(np.maximum(seconds, 0))
    told = [iso_time(second * 10**9) or "" for second in distinct.tolist()]
    return list(map(told.__getitem__, number.tolist()))


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
