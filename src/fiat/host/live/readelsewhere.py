"""Reading a part of a tree for somebody else, who sees the same file system perhaps from another machine."""

import os
import threading
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from fiat.core.errors import EngineError
from fiat.core.model.posture import Mount
from fiat.core.text import quoted
from fiat.core.tree.profile import Profile
from fiat.core.tree.walk import Extent
from fiat.host.live.kernel import Kernel
from fiat.host.live.mounts import mounts_now
from fiat.host.live.postures import PostureReader, Reader
from fiat.host.live.rows import LOOKED_AT, ReadPart, Where
from fiat.host.live.sighting import Sighting, expect_same, sight
from fiat.host.live.treereader import TreeReader

_OPEN = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC

_turn = threading.Lock()
"""A reader changes the current directory, which is that of the whole process."""


class TreePiece(NamedTuple):
    """Directories to be read, by their names from the top of the tree that is seen at ``sighting``; of the only one
    just the names ``inside``, where these are given. About so many entries at ``most``."""

    sighting: Sighting
    extent: Extent
    roots: tuple[tuple[bytes, ...], ...]
    most: int
    inside: bytes | None = None


def read_piece(piece: TreePiece) -> ReadPart:
    """What is in those directories, with :data:`ANYWHERE` for where their top is.

    Raises :class:`EngineError` where this process sees another tree there.
    """
    with _turn:
        reader = Reader(Kernel(_open_root, mounts_now), PostureReader())
        try:
            fd = _opened(piece.sighting.path)
        except OSError as error:
            path = quoted(piece.sighting.path)
            raise EngineError(f"a worker cannot open {path}: {error.strerror}; is it mounted there?") from error
        try:
            expect_same(piece.sighting, sight(reader.kernel, fd, piece.sighting.path), fd)  # it may be another by now
            part = TreeReader(reader, fd, piece.sighting.path, piece.extent).read(piece.roots, piece.most, piece.inside)
            return moved(part, standing(reader, fd), ANYWHERE)
        finally:
            os.close(fd)


def _open_root() -> int:
    return os.open("/", os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)


def _opened(path: str) -> int:
    """The directory at an absolute path, opened through no link."""
    fd = _open_root()
    for name in filter(None, path.split("/")):
        try:
            below = os.open(name, os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=fd)
        finally:
            os.close(fd)
        fd = below
    return fd


class Standing(NamedTuple):
    """Which mount, by its number, and which device (as in :data:`fiat.host.live.rows.Where`) a tree's top is on."""

    mount: int
    device: int


ANYWHERE = Standing(0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF)
"""Numbers of mounts and devices differ from process to process: these stand for them on the way."""


def standing(reader: Reader, fd: int) -> Standing:
    """Where the directory opened as ``fd`` is, by the numbers of this process."""
    facts = reader.kernel.statx.facts(fd)
    return Standing(facts.mount, os.major(facts.device) | os.minor(facts.device) << 32)


def moved(
    part: ReadPart, was: Standing, now: Standing, mounts: Callable[[Mount], Mount] = lambda mount: mount
) -> ReadPart:
    """The part with other numbers for the mount and the device of the tree's top, and with ``mounts`` of its own."""
    met = part.met
    rows = met.rows.copy()
    half = np.uint64(32)
    bulk = rows[:, 3] != LOOKED_AT
    here = bulk & (rows[:, 3] >> half == np.uint64(was.mount))
    rows[here, 3] = rows[here, 3] & np.uint64(0xFFFFFFFF) | np.uint64(now.mount) << half
    rows[bulk & (rows[:, 2] == np.uint64(was.device)), 2] = np.uint64(now.device)

    def mount_of(number: int) -> int:
        return now.mount if number == was.mount else number

    def where(found: Where) -> Where:
        return mount_of(found[0]), now.device if found[1] == was.device else found[1]

    def profile(one: Profile) -> Profile:
        device = _device(now.device) if one.device == _device(was.device) else one.device
        return one._replace(device=device, mount=None if one.mount is None else mounts(one.mount))

    return part._replace(
        met=met._replace(
            rows=rows,
            profiles=[profile(one) for one in met.profiles],
            filesystems={where(found): name for found, name in met.filesystems.items()},
            lists_kept={mount_of(number): kept for number, kept in met.lists_kept.items()},
        )
    )


def _device(where: int) -> int:
    """The number of a device, of its two halves; one that no device has for the one that stands for any."""
    return -1 if where == ANYWHERE.device else os.makedev(where & 0xFFFFFFFF, where >> 32)
