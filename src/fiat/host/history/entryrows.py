"""The entries of a run, and the postures that they have, as rows of their tables."""

import json
import os
from collections.abc import Iterable, Iterator
from typing import Any

from fiat.core.change.history import Entry, Fate, Settled
from fiat.core.errors import RecordError
from fiat.core.model import record
from fiat.core.model.identity import Identity
from fiat.core.model.posture import Posture
from fiat.core.model.schema import Listed, Number, Text
from fiat.host.history.columns import Json
from fiat.host.history.seals import Row, Seal

ENTRY_COLUMNS = (
    "place", "path", "filesystem", "inode", "birth", "before", "after", "on_the_way", "fate", "found",
)  # fmt: skip


class EntryRows:
    """The rows of a run's entries, and of the postures they have; sealed as they are made."""

    def __init__(self, run: int) -> None:
        self.run = run
        self.seal = Seal()
        self.count = 0
        self._known: dict[Posture, int] = {}

    def entries(self, entries: Iterable[Entry]) -> Iterator[Row]:
        """The run, and what :data:`ENTRY_COLUMNS` name."""
        last: tuple[Posture, Posture, tuple[Posture, ...]] | None = None  # neighbours are often alike
        pair, on_the_way = (0, 0), None
        for place, path, (filesystem, inode, birth), before, after, between, fate, found in entries:
            if last is None or last[0] is not before or last[1] is not after or last[2] is not between:
                last = before, after, between
                pair = self._number(before), self._number(after)
                on_the_way = json.dumps([self._number(one) for one in between]) if between else None
            signed = inode - (1 << 64) if inode >= 1 << 63 else inode
            planned = (place, os.fsencode(path), filesystem, signed, birth, *pair, on_the_way)
            self.seal.add(planned)
            self.count += 1
            yield self.run, *planned, fate.value, found_text(found)

    def postures(self) -> Iterator[Row]:
        """Run, number and fields of each posture; to be taken after the entries."""
        for posture, number in self._known.items():
            row = number, json.dumps(record.POSTURE.write(posture))
            self.seal.add(row)
            yield self.run, *row

    def _number(self, posture: Posture) -> int:
        return self._known.setdefault(posture, len(self._known))


def found_text(found: Posture | None) -> str | None:
    """The posture that an object was read back with, as its column has it."""
    return None if found is None else json.dumps(record.POSTURE.write(found))


def fates_seal(settled: Iterable[Settled]) -> str:
    """The seal of what became of the entries that were not simply changed."""
    seal = Seal()
    for one in sorted(settled, key=lambda one: one.first):
        found = found_text(one.found)
        for place in range(one.first, one.last + 1):
            seal.add((place, one.fate.value, found))
    return seal.text()


_NUMBERS = Json(Listed(Number()))
_PLACE, _TEXT = Number(), Text()
_BIRTH = Number(-(1 << 63), (1 << 63) - 1)
_FATES = {fate.value: fate for fate in Fate}


def entries_of(
    rows: Iterable[Row],
    postures: Iterable[Row],
    seals: tuple[str | None, str | None],
    *,
    flags_unknown: bool,
) -> list[Entry]:
    """The entries of a run from their rows (:data:`ENTRY_COLUMNS`) and those of the postures.

    ``seals`` are those of the entries as planned and of what came of them, None where there is none.

    Raises RecordError for what is not as it was written.
    """
    known: dict[int, Posture] = {}
    posture_rows = list(postures)
    for one, fields in posture_rows:
        known[one] = posture_of(fields, f"posture {one}", flags_unknown=flags_unknown)
    planned, fates, found = Seal(), Seal(), []
    for row in rows:
        entry = _entry(row, known)
        planned.add(row[:8])
        if entry.fate is not Fate.PLANNED:
            fates.add((row[0], *row[8:]))
        found.append(entry)
    for posture_row in posture_rows:
        planned.add(posture_row)
    for seal, kept in ((planned, seals[0]), (fates, seals[1])):
        if kept is not None and kept != seal.text():
            raise RecordError("it", "has entries that are not as they were written")
    return found


def _entry(row: Row, known: dict[int, Posture]) -> Entry:
    place, path, filesystem, inode, birth, before, after, between, fate, found = row
    where = f"entry {place}"
    if not isinstance(path, bytes) or not path.startswith(b"/") or b"\0" in path:
        raise RecordError(where, "has no path that begins with /")
    if fate not in _FATES or isinstance(fate, bool | float):
        raise RecordError(where, "has a fate that is none")
    numbers = [before, after, *(_NUMBERS.read(between, where) if between is not None else ())]
    try:
        first, last, *others = [known[one] for one in numbers]
    except (KeyError, TypeError) as error:
        raise RecordError(where, "has a posture that is missing") from error
    return Entry(
        _PLACE.read(place, where),
        os.fsdecode(path),
        Identity(
            _TEXT.read(filesystem, where), _BIRTH.read(inode, where) & 0xFFFFFFFFFFFFFFFF, _BIRTH.read(birth, where)
        ),
        first,
        last,
        tuple(others),
        _FATES[fate],
        None if found is None else posture_of(found, where),
    )


def posture_of(fields: Any, place: str, *, flags_unknown: bool = False) -> Posture:
    """A posture from the JSON that its column holds."""
    found: Posture = Json(record.POSTURE).read(fields, place)
    return found._replace(flags=None) if flags_unknown else found
