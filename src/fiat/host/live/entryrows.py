"""What entries read in bulk have in common: *rows* of four numbers, each met row once, and the programs and attributes
that they speak of by number."""

import os
from array import array
from itertools import islice
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.posture import Program
from fiat.core.rules.handlers import Handler
from fiat.core.rules.programs import FIRST_BYTES, SHORTEST
from fiat.core.tree.distinct import distinct_rows
from fiat.core.tree.profile import Profile
from fiat.host.live import attributes
from fiat.host.live.attributes import NOTHING, Raw
from fiat.host.live.facts import TOLD_FLAGS
from fiat.host.live.postures import EMPTY, TOO_SHORT, program_in
from fiat.host.live.rows import LOOKED_AT, NewValues, Where

_STARTS = 2000
"""Short programs, and scripts, whose bytes are remembered."""


class _Chunk(NamedTuple):
    """Some thousand entries; the numbers of their rows, and the rest as in :class:`Batch`."""

    profile: NDArray[np.int32]
    inode: NDArray[np.uint64]
    links: NDArray[np.uint32]
    birth: NDArray[np.int64]
    size: NDArray[np.int64]
    changed: NDArray[np.int64]
    modified: NDArray[np.int64]


_NO_TIMES = np.zeros(0, np.int64)
_NO_CHUNK = _Chunk(
    np.zeros(0, np.int32), np.zeros(0, np.uint64), np.zeros(0, np.uint32), _NO_TIMES, _NO_TIMES, _NO_TIMES, _NO_TIMES
)


class EntryRows:
    """The rows of a tree's entries, numbered as they are met, over all parts that one process reads."""

    def __init__(self, handlers: tuple[Handler, ...]) -> None:
        self._handlers = handlers
        self._known_attributes: dict[Raw, int] = {NOTHING: 0}
        self._known_programs: dict[Program | int | None, int] = {None: 0}
        self._known_starts: dict[bytes, int] = {}
        self._known_profiles: dict[Profile, int] = {}
        self._known_rows: dict[bytes, int] = {}
        self.begin()

    def begin(self) -> None:
        """Begin a part: what is met from now on is new in it."""
        self._known_before = len(self._known_rows), len(self._known_attributes), len(self._known_programs)
        self._profiles_before = len(self._known_profiles)
        self._chunks: list[_Chunk] = []

    def attributes_of(self, name: bytes, listed: list[str]) -> int:
        """The number of what the attributes named in ``listed`` say."""
        raw = attributes.read(listed, lambda attribute: os.getxattr(name, attribute, follow_symlinks=False))
        return self._known_attributes.setdefault(raw, len(self._known_attributes))

    def program_of(self, name: bytes, size: int) -> int:
        """The number of what execve(2) sees of an executable file, or of the errno that kept it from us."""
        if size < SHORTEST and not self._handlers:
            return self._number_of_program(TOO_SHORT if size else EMPTY)
        try:
            fd = os.open(name, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW)
        except OSError as error:
            return self._number_of_program(error.errno or 0)
        try:
            start = os.read(fd, FIRST_BYTES)
            number = self._known_starts.get(start)
            if number is None:
                number = self._number_of_program(program_in(fd, start, self._handlers, os.fsdecode(name)))
                # what has the same bytes, and no more of them, is the same; unless it goes by its name
                if len(start) < FIRST_BYTES and not self._handlers and len(self._known_starts) < _STARTS:
                    self._known_starts[start] = number
            return number
        except OSError as error:
            return self._number_of_program(error.errno or 0)
        finally:
            os.close(fd)

    def _number_of_program(self, found: Program | int) -> int:
        return self._known_programs.setdefault(found, len(self._known_programs))

    def number_of_profile(self, profile: Profile) -> int:
        """The number of what was found by looking at an entry thoroughly."""
        return self._known_profiles.setdefault(profile, len(self._known_profiles))

    def add(self, answers: NDArray[np.void], special: "array[int]", *, details: bool) -> None:
        """Find the rows of some thousand entries: the kernel's answers, and what is ``special`` about some of them.

        That is four numbers for each: its place among the answers, its attributes' and its program's number, and one
        more than that of its profile, where it was looked at thoroughly.
        """
        rows = np.empty((len(answers), 4), np.uint64)
        rows[:, 0] = answers["mode"] | (answers["attributes"] & answers["supported"] & TOLD_FLAGS) << 16
        rows[:, 1] = answers["uid"] | answers["gid"].astype(np.uint64) << 32
        rows[:, 2] = answers["device_major"] | answers["device_minor"].astype(np.uint64) << 32
        rows[:, 3] = answers["mount"] << 32
        if special:
            place, said, program, looked_at = np.frombuffer(special, np.uint64).reshape(-1, 4).T
            rows[place, 0] |= program << 32
            rows[place, 3] |= said
            thorough = looked_at > 0
            rows[place[thorough]] = 0
            rows[place[thorough], 0] = looked_at[thorough] - 1
            rows[place[thorough], 3] = LOOKED_AT
        first, places = distinct_rows(rows)
        known = self._known_rows
        distinct = rows[first]
        keys, width = distinct.tobytes(), distinct.itemsize * 4
        found = [known.setdefault(keys[at : at + width], len(known)) for at in range(0, len(keys), width)]
        birth = answers["birth"] * 1_000_000_000 + answers["birth_fraction"]
        size, changed, modified = _NO_TIMES, _NO_TIMES, _NO_TIMES
        if details:
            size = answers["size"].copy()
            changed, modified = (
                answers[name] * 1_000_000_000 + answers[f"{name}_fraction"] for name in ("changed", "modified")
            )
        inode, links = answers["inode"].copy(), answers["links"].copy()
        self._chunks.append(_Chunk(np.array(found, np.int32)[places], inode, links, birth, size, changed, modified))

    def new_values(self, keeps_lists: dict[int, bool | None], filesystems: dict[Where, str]) -> NewValues:
        """What was not met before this part."""
        rows, said, programs = self._known_before
        return NewValues(
            rows,
            np.frombuffer(b"".join(islice(self._known_rows, rows, None)), np.uint64).reshape(-1, 4),
            list(islice(self._known_attributes, said, None)),
            list(islice(self._known_programs, programs, None)),
            list(islice(self._known_profiles, self._profiles_before, None)),
            keeps_lists,
            filesystems,
        )

    def columns(self) -> _Chunk:
        """The entries of this part, in the order in which they were read."""
        return _Chunk(*(np.concatenate(column) for column in zip(_NO_CHUNK, *self._chunks, strict=True)))
