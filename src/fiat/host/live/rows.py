"""From the rows that readers send to profiles, each made once."""

import os
import stat
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.posture import UNKNOWN_PROGRAM as UNKNOWN
from fiat.core.model.posture import Program
from fiat.core.tree.assembly import Assembly, Batch
from fiat.core.tree.distinct import distinct_rows, each_once
from fiat.core.tree.profile import Profile
from fiat.core.tree.profiles import Columns
from fiat.core.tree.survey import Numbers
from fiat.core.tree.walk import Trouble
from fiat.host.live import attributes
from fiat.host.live.attributes import NOTHING, Attributes, Raw
from fiat.host.live.facts import other_flag_names
from fiat.host.live.postures import Reader

LOOKED_AT = np.uint64(0xFFFFFFFFFFFFFFFF)
"""In the last column of a row: the first is the number of a profile that was found out by looking thoroughly."""

Rows = NDArray[np.uint64]
"""What entries have in common, in four columns of 64 bits, high and low half:

0. the number of what execve(2) sees; inode flags (16 bits), type and mode (16 bits)
1. group; owner
2. minor and major number of the device
3. mount; the number of the attributes

Numbers of programs and attributes count what a reader has met, 0 being none.
"""


Where = tuple[int, int]
"""The mount that something is on, and the device as two halves of 32 bits, minor number above the major one."""


class Directory(NamedTuple):
    """A directory still to be read: its entry in the batch it was found in, and its names from the top down.

    ``where`` it is, where that is known already.
    """

    entry: int
    names: tuple[bytes, ...]
    where: Where | None = None


class SplitDirectory(NamedTuple):
    """A directory that is to be read in several pieces: the names of its many ``entries``, with a slash between two."""

    directory: Directory
    entries: int
    names: bytes


class NewValues(NamedTuple):
    """What a reader had not met before this part; each list goes on where that of the part before ended.

    Of a program that could not be read there is the errno. ``lists_kept`` is by mount.
    """

    first_row: int
    rows: Rows
    attributes: list[Raw]
    programs: list[Program | int | None]
    profiles: list[Profile]
    lists_kept: dict[int, bool | None]
    filesystems: dict[Where, str]


class ReadPart(NamedTuple):
    """What one call of :meth:`TreeReader.read` has read.

    ``batch.profile`` counts rows. ``unread`` are the directories that were found
    and not read, ``shared`` those of which there are just the names; ``at`` is
    one of the last that were read.
    """

    batch: Batch
    met: NewValues
    unread: list[Directory]
    shared: list[SplitDirectory]
    troubles: list[Trouble]
    skipped: list[str]
    at: str


_HALF = np.uint64(32)
_LOW = np.uint64(0xFFFFFFFF)
_PERMISSIONS = np.uint64(0o7777)


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
        self._filesystems: dict[Where, str] = {}
        self._readers: dict[int, _Theirs] = {}
        # of each of the attributes: the number of the list, and that of what they say besides
        self._lists: list[int] = []
        self._said: list[int] = []
        self._besides: dict[Attributes, int] = {}

    def numbers(self, number: int, met: NewValues) -> Numbers:
        """For each row that the reader of this number has met so far, the number of its profile."""
        theirs = self._readers.setdefault(number, _Theirs())
        theirs.attributes = _joined(theirs.attributes, [self._attributes_numbered(raw) for raw in met.attributes])
        theirs.programs = _joined(theirs.programs, [self._program_numbered(found) for found in met.programs])
        theirs.profiles += map(self._assembly.number, met.profiles)
        self._lists_kept |= met.lists_kept
        self._filesystems |= met.filesystems
        rows = met.rows
        found = np.empty(len(rows), np.int32)
        thorough = rows[:, 3] == LOOKED_AT
        if thorough.any():
            found[thorough] = np.array(theirs.profiles, np.int32)[rows[thorough, 0].astype(np.int64)]
        in_bulk = np.flatnonzero(~thorough)
        found[in_bulk] = self._of_rows(rows[in_bulk].copy(), theirs)
        assert met.first_row == len(theirs.numbers)
        theirs.numbers = np.concatenate([theirs.numbers, found])
        return theirs.numbers

    def forget(self, number: int) -> None:
        """Forget what the reader of this number has met, for nothing more will come of it."""
        self._readers.pop(number, None)

    def _of_rows(self, rows: Rows, theirs: "_Theirs") -> Numbers:
        """The numbers of the profiles for rows of one reader, which become rows of all of them."""
        rows[:, 3] = (rows[:, 3] & ~_LOW) | theirs.attributes[rows[:, 3] & _LOW]
        rows[:, 0] = (rows[:, 0] & _LOW) | theirs.programs[rows[:, 0] >> _HALF] << _HALF
        keys, width, known = rows.tobytes(), rows.itemsize * 4, self._numbers
        found = [known.get(keys[at : at + width], -1) for at in range(0, len(keys), width)]
        numbers = np.array(found, np.int32)
        new = np.flatnonzero(numbers < 0)
        if len(new):
            numbers[new] = self._assembly.new_numbers(self._columns(rows[new]))
            for place, number in zip(new.tolist(), numbers[new].tolist(), strict=True):
                known[keys[place * width : (place + 1) * width]] = number
        return numbers

    def _columns(self, rows: Rows) -> Columns:
        """The columns of the profiles for rows that are new."""
        profiles = self._assembly.profiles
        for raw in self._attributes[len(self._said) :]:
            said = attributes.decoded(raw)
            besides = said._replace(acl=None)
            self._said.append(self._besides.setdefault(besides, len(self._besides)))
            self._lists.append(profiles.list_number(said.acl))
        which = (rows[:, 3] & _LOW).astype(np.int64)
        rest = np.empty((len(rows), 3), np.uint64)
        rest[:, 0] = rows[:, 0] & ~_PERMISSIONS
        rest[:, 1] = rows[:, 2]
        rest[:, 2] = (rows[:, 3] & ~_LOW) | np.array(self._said, np.uint64)[which]
        first, places = distinct_rows(rest)
        numbers = [profiles.rest_number(self._profile(*row)) for row in rows[first].tolist()]
        uid, gid = (rows[:, 1] & _LOW).astype(np.int64), (rows[:, 1] >> _HALF).astype(np.int64)
        mounts = rows[:, 3] >> _HALF
        for mount in each_once(mounts):
            user, group, none = self._kernel.unmapped_as(mount)
            if none:
                here = mounts == mount
                uid[here & (uid == user)] = none
                gid[here & (gid == group)] = none
        return Columns(
            mode=(rows[:, 0] & _PERMISSIONS).astype(np.int64),
            uid=uid,
            gid=gid,
            acl=np.array(self._lists, np.int64)[which],
            rest=np.array(numbers, np.int64)[places],
        )

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
            filesystem=self._filesystems[mount, device],
            device=os.makedev(device & 0xFFFFFFFF, device >> 32),
            mount=self._kernel.mount_with_id(mount),
            program=program,
            label=said.label,
            keeps_lists=None if stat.S_ISLNK(mode) else self._lists_kept.get(mount),
            unknown=unknown,
            other_flags=other_flag_names(posture.kind, flags),
        )


def _joined(known: NDArray[np.uint64], more: list[int]) -> NDArray[np.uint64]:
    return np.concatenate([known, np.array(more, np.uint64)]) if more else known


class _Theirs:
    """What the numbers of one reader are in ours."""

    def __init__(self) -> None:
        self.attributes: NDArray[np.uint64] = np.zeros(1, np.uint64)
        self.programs: NDArray[np.uint64] = np.zeros(1, np.uint64)
        self.profiles: list[int] = []
        self.numbers: Numbers = np.zeros(0, np.int32)
