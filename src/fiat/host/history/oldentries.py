"""The entries of a run as histories before version 3 have them: a row for each, and one for each posture."""

import os
from collections.abc import Iterable
from typing import Any

from fiat.core.change.history import Entry, Fate
from fiat.core.errors import RecordError
from fiat.core.model.posture import Identity, Posture
from fiat.core.model.record import POSTURE
from fiat.core.model.schema import Listed, Number, Text
from fiat.host.history.blocks import Json
from fiat.host.history.seals import Row, Seal

ENTRY_COLUMNS = (
    "place", "path", "filesystem", "inode", "birth", "before", "after", "on_the_way", "fate", "found",
)  # fmt: skip
POSTURE_COLUMNS = ("number", "fields")

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
    filesystem = "" if filesystem is None else filesystem  # before version 2
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
    _PLACE.read(place, where)
    return Entry(
        os.fsdecode(path),
        Identity(
            _TEXT.read(filesystem, where),
            _BIRTH.read(inode, where) & 0xFFFFFFFFFFFFFFFF,
            _BIRTH.read(birth, where),
        ),
        first,
        last,
        tuple(others),
        _FATES[fate],
        None if found is None else posture_of(found, where),
    )


def posture_of(fields: Any, place: str, *, flags_unknown: bool = False) -> Posture:
    """A posture from the JSON that its column holds."""
    found: Posture = Json(POSTURE).read(fields, place)
    return found._replace(flags=None) if flags_unknown else found
