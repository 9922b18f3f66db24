"""What readers of a tree hand on: parts of it, with what the entries in them have in common."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.program import Program
from fiat.core.tree.assembly import Batch
from fiat.core.tree.profile import Profile
from fiat.core.tree.trouble import Trouble
from fiat.host.live.attributes import Raw

LOOKED_AT = np.uint64(0xFFFFFFFFFFFFFFFF)
"""In the last column of a row: the first is the number of a profile that was found out by looking thoroughly."""

Rows = NDArray[np.uint64]
"""What entries have in common, in four columns of 64 bits, high and low half:

0. the number of what execve(2) sees; inode flags (16 bits), type and mode (16 bits)
1. group; owner
2. major and minor number of the device
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


class Shared(NamedTuple):
    """A directory that is to be read in several pieces: the names of its many ``entries``, with a slash between two."""

    directory: Directory
    entries: int
    names: bytes


class Met(NamedTuple):
    """What a reader had not met before this part; each list goes on where that of the part before ended.

    Of a program that could not be read there is the errno. ``lists_kept`` and
    ``filesystems`` are by mount.
    """

    first_row: int
    rows: Rows
    attributes: list[Raw]
    programs: list[Program | int | None]
    profiles: list[Profile]
    lists_kept: dict[int, bool | None]
    filesystems: dict[int, str]


class Part(NamedTuple):
    """What one call of :meth:`TreeReader.read` has read.

    ``batch.profile`` counts rows. ``unread`` are the directories that were found
    and not read, ``shared`` those of which there are just the names; ``at`` is
    one of the last that were read.
    """

    batch: Batch
    met: Met
    unread: list[Directory]
    shared: list[Shared]
    troubles: list[Trouble]
    skipped: list[str]
    at: str
