"""From the rows that readers send to sorts, each made once."""

import os
import stat

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.posture import Posture
from fiat.core.tree.survey import Assembly, Sort
from fiat.host.live import attributes
from fiat.host.live.attributes import NOTHING, Attributes, Raw
from fiat.host.live.node import KINDS, Mounts, flag_names
from fiat.host.live.treereader import LOOKED_AT, Met

_HALF = np.uint64(32)
_LOW = np.uint64(0xFFFFFFFF)


class Sorting:
    """Gives each distinct row the number of its sort in an assembly, whichever reader it comes from."""

    def __init__(self, assembly: Assembly, mounts: Mounts) -> None:
        self._assembly = assembly
        self._mounts = mounts
        self._numbers: dict[bytes, int] = {}
        self._known_attributes: dict[Raw, int] = {NOTHING: 0}
        self._attributes = [Attributes()]
        self._known_scripts: dict[str | int, int] = {"": 0}
        self._scripts: list[str | int] = [""]
        self._lists_kept: dict[int, bool | None] = {}
        self._flags: dict[tuple[int, int], tuple[str, ...]] = {}
        self._readers: dict[int, _Reader] = {}

    def numbers(self, number: int, met: Met) -> NDArray[np.int32]:
        """For each row that the reader of this number has met so far, the number of its sort."""
        reader = self._readers.setdefault(number, _Reader())
        reader.attributes = self._join(reader.attributes, [self._attributes_numbered(raw) for raw in met.attributes])
        reader.scripts = self._join(reader.scripts, [self._script_numbered(found) for found in met.scripts])
        reader.sorts += map(self._assembly.number, met.sorts)
        self._lists_kept |= met.lists_kept
        rows = met.rows.copy()
        thorough = rows[:, 3] == LOOKED_AT
        rows[:, 3] = (rows[:, 3] & ~_LOW) | reader.attributes[np.where(thorough, 0, rows[:, 3] & _LOW)]
        rows[:, 0] = (rows[:, 0] & _LOW) | reader.scripts[np.where(thorough, 0, rows[:, 0] >> _HALF)] << _HALF
        keys, width = rows.tobytes(), rows.itemsize * 4
        found = [
            reader.sorts[row[0]] if is_sort else self._number(keys[place * width : (place + 1) * width], row)
            for place, (row, is_sort) in enumerate(zip(rows.tolist(), thorough.tolist(), strict=True))
        ]
        if found:
            assert met.first_row == len(reader.numbers)
            reader.numbers = np.concatenate([reader.numbers, np.array(found, np.int32)])
        return reader.numbers

    def _join(self, known: NDArray[np.uint64], more: list[int]) -> NDArray[np.uint64]:
        return np.concatenate([known, np.array(more, np.uint64)]) if more else known

    def _attributes_numbered(self, raw: Raw) -> int:
        number = self._known_attributes.setdefault(raw, len(self._attributes))
        if number == len(self._attributes):
            self._attributes.append(attributes.decoded(raw))
        return number

    def _script_numbered(self, found: str | int) -> int:
        number = self._known_scripts.setdefault(found, len(self._scripts))
        if number == len(self._scripts):
            self._scripts.append(found)
        return number

    def _number(self, key: bytes, row: list[int]) -> int:
        number = self._numbers.get(key)
        if number is None:
            number = self._numbers[key] = self._assembly.new_number(self._sort(*row))
        return number

    def _sort(self, what: int, owners: int, device: int, where: int) -> Sort:
        mode, flags = what & 0xFFFF, what >> 16 & 0xFFFF
        said = self._attributes[where & 0xFFFFFFFF]
        script = self._scripts[what >> 32]
        unknown = said.unknown
        if isinstance(script, int):
            unknown = (*unknown, ("first line", script))
        kind = KINDS[stat.S_IFMT(mode)]
        posture = Posture(
            kind,
            mode & 0o7777,
            owners & 0xFFFFFFFF,
            owners >> 32,
            said.acl,
            said.default,
            flag_names(kind, flags) if flags else (),
            said.capabilities,
        )
        mount = where >> 32
        return Sort(
            posture,
            os.makedev(device >> 32, device & 0xFFFFFFFF),
            self._mounts.mount_with_id(mount),
            script if isinstance(script, str) and script else None,
            said.label,
            None if stat.S_ISLNK(mode) else self._lists_kept.get(mount),
            unknown,
        )


class _Reader:
    """How the numbers of one reader are told in ours."""

    def __init__(self) -> None:
        self.attributes: NDArray[np.uint64] = np.zeros(1, np.uint64)
        self.scripts: NDArray[np.uint64] = np.zeros(1, np.uint64)
        self.sorts: list[int] = []
        self.numbers: NDArray[np.int32] = np.zeros(0, np.int32)
