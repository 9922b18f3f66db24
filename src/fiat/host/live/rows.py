"""From the rows that readers send to profiles, each made once."""

import os
import stat

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.program import UNKNOWN, Program
from fiat.core.tree.assembly import Assembly
from fiat.core.tree.profile import Profile
from fiat.host.live.attributes import NOTHING, Raw
from fiat.host.live.postures import Reader
from fiat.host.live.treereader import LOOKED_AT, Met

_HALF = np.uint64(32)
_LOW = np.uint64(0xFFFFFFFF)


class Numbering:
    """Gives each distinct row the number of its profile in an assembly, whichever reader it comes from."""

    def __init__(self, assembly: Assembly, reader: Reader) -> None:
        self._assembly = assembly
        self._kernel = reader.kernel
        self._postures = reader.postures
        self._numbers: dict[bytes, int] = {}
        self._known_attributes: dict[Raw, int] = {NOTHING: 0}
        self._attributes: list[Raw] = [NOTHING]
        self._known_programs: dict[Program | int | None, int] = {None: 0}
        self._programs: list[Program | int | None] = [None]
        self._lists_kept: dict[int, bool | None] = {}
        self._filesystems: dict[int, str] = {}
        self._readers: dict[int, _Theirs] = {}

    def numbers(self, number: int, met: Met) -> NDArray[np.int32]:
        """For each row that the reader of this number has met so far, the number of its profile."""
        theirs = self._readers.setdefault(number, _Theirs())
        theirs.attributes = _joined(theirs.attributes, [self._attributes_numbered(raw) for raw in met.attributes])
        theirs.programs = _joined(theirs.programs, [self._program_numbered(found) for found in met.programs])
        theirs.profiles += map(self._assembly.number, met.profiles)
        self._lists_kept |= met.lists_kept
        self._filesystems |= met.filesystems
        rows = met.rows.copy()
        thorough = rows[:, 3] == LOOKED_AT
        rows[:, 3] = (rows[:, 3] & ~_LOW) | theirs.attributes[np.where(thorough, 0, rows[:, 3] & _LOW)]
        rows[:, 0] = (rows[:, 0] & _LOW) | theirs.programs[np.where(thorough, 0, rows[:, 0] >> _HALF)] << _HALF
        keys, width = rows.tobytes(), rows.itemsize * 4
        found = [
            theirs.profiles[row[0]] if is_profile else self._number(keys[place * width : (place + 1) * width], row)
            for place, (row, is_profile) in enumerate(zip(rows.tolist(), thorough.tolist(), strict=True))
        ]
        if found:
            assert met.first_row == len(theirs.numbers)
            theirs.numbers = np.concatenate([theirs.numbers, np.array(found, np.int32)])
        return theirs.numbers

    def _attributes_numbered(self, raw: Raw) -> int:
        number = self._known_attributes.setdefault(raw, len(self._attributes))
        if number == len(self._attributes):
            self._attributes.append(raw)
        return number

    def _program_numbered(self, found: Program | int | None) -> int:
        number = self._known_programs.setdefault(found, len(self._programs))
        if number == len(self._programs):
            self._programs.append(found)
        return number

    def _number(self, key: bytes, row: list[int]) -> int:
        number = self._numbers.get(key)
        if number is None:
            number = self._numbers[key] = self._assembly.new_number(self._profile(*row))
        return number

    def _profile(self, what: int, owners: int, device: int, where: int) -> Profile:
        mode, flags = what & 0xFFFF, what >> 16 & 0xFFFF
        mount = where >> 32
        raw = self._attributes[where & 0xFFFFFFFF]
        posture, said = self._postures.of(mode, owners & 0xFFFFFFFF, owners >> 32, flags, raw)
        program = self._programs[what >> 32]
        unknown = said.unknown
        if isinstance(program, int):
            unknown, program = (*unknown, ("first bytes", program)), UNKNOWN
        return Profile(
            posture=posture,
            filesystem=self._filesystems[mount],
            device=os.makedev(device >> 32, device & 0xFFFFFFFF),
            mount=self._kernel.mount_with_id(mount),
            program=program,
            label=said.label,
            keeps_lists=None if stat.S_ISLNK(mode) else self._lists_kept.get(mount),
            unknown=unknown,
        )


def _joined(known: NDArray[np.uint64], more: list[int]) -> NDArray[np.uint64]:
    return np.concatenate([known, np.array(more, np.uint64)]) if more else known


class _Theirs:
    """What the numbers of one reader are in ours."""

    def __init__(self) -> None:
        self.attributes: NDArray[np.uint64] = np.zeros(1, np.uint64)
        self.programs: NDArray[np.uint64] = np.zeros(1, np.uint64)
        self.profiles: list[int] = []
        self.numbers: NDArray[np.int32] = np.zeros(0, np.int32)
