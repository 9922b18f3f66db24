"""Objects changed by ``fiat._native``: the calls of :mod:`fiat.host.live.node`, in the same order."""

import os
import stat
import struct
from collections.abc import Callable, Sequence
from types import ModuleType
from typing import Any

from fiat.core.change.steps import Change
from fiat.core.change.together import Attempt, Came, Tried
from fiat.core.model import capabilities, listbytes
from fiat.core.model.idmap import NO_NUMBERS
from fiat.core.model.posture import Kind, Placement, Posture
from fiat.host.live.attributes import NAMES
from fiat.host.live.facts import ALL_FLAGS, FLAG_BITS, KINDS
from fiat.host.live.postures import Reader
from fiat.host.live.treenode import LiveTreeNode

_TYPES = {kind: bits for bits, kind in KINDS.items()}
_Object = tuple[bytes, int, int, int, int, int]
"""A path, inode, birth, names, and the numbers of the file system and of the change."""

_LENGTH = struct.Struct("=i")
_NOT_SET = _LENGTH.pack(-1)


class CompiledChanger:
    """Makes attempts in one go; ``open_root`` gives the directory from which everything is reached."""

    def __init__(self, native: ModuleType, reader: Reader, open_root: Callable[[], int]) -> None:
        self._native = native
        self._reader = reader
        self._open_root = open_root
        self._begin()

    def _begin(self) -> None:
        """Begin without what was known of places: the mounts may be others now."""
        lanes = len(os.sched_getaffinity(0))
        root = self._open_root()
        try:
            self._changer = self._native.Changer(root=root, flags_that_count=ALL_FLAGS, lanes=lanes)
        finally:
            os.close(root)
        self._sites: list[Placement] = []
        self._filesystems: dict[str, int] = {}
        self._postures: dict[Posture, int] = {}
        self._changes: dict[tuple[int, bool], tuple[int, Change]] = {}
        self._read_at = self._reader.kernel.times_read

    def in_turn(self, attempts: Sequence[Attempt]) -> list[Placement | Tried]:
        """Make the attempts, as :class:`fiat.core.change.together.Together` says."""
        self._look_round()
        objects: list[_Object] = []
        for attempt in attempts:
            made = self._object(attempt)
            if made is None:
                break
            objects.append(made)
        found = self._told(attempts, self._changer.in_turn(objects))
        if len(found) == len(objects) < len(attempts) and not (found and isinstance(found[-1], Tried)):
            found.append(Tried(Came.NOT_TRIED))
        return found

    def at_once(self, attempts: Sequence[Attempt]) -> list[Placement | Tried]:
        """Make the attempts several at a time."""
        self._look_round()
        made = list(map(self._object, attempts))
        some = [attempt for attempt, one in zip(attempts, made, strict=True) if one is not None]
        found = iter(self._told(some, self._changer.at_once([one for one in made if one is not None])))
        return [Tried(Came.NOT_TRIED) if one is None else next(found) for one in made]

    def _object(self, attempt: Attempt) -> _Object | None:
        """An attempt as it is handed over; None where it takes what is not done here."""
        path, identity, change, links, compared_only = attempt
        number = self._number(change, compared_only)
        if number < 0 or path == "/":
            return None
        filesystem = self._filesystems.get(identity.filesystem, -1)
        return os.fsencode(path), identity.inode, identity.birth, links, filesystem, number

    def _told(
        self, attempts: Sequence[Attempt], found: Sequence[int | tuple[int, int, int]]
    ) -> list[Placement | Tried]:
        sites, told = self._sites, list[Placement | Tried]()
        for attempt, one in zip(attempts, found, strict=False):
            if isinstance(one, int):
                told.append(sites[one])
            else:
                came, errno, fd = one
                node = None if fd < 0 else LiveTreeNode(self._reader, fd, attempt.path)
                told.append(Tried(Came(came), errno, node))
        return told

    def _look_round(self) -> None:
        """Begin again where the mounts were read since; and know the places that were met since the last time."""
        if self._read_at != self._reader.kernel.times_read:
            self._begin()
        self._take_sites()

    def _take_sites(self) -> None:
        known = self._reader.sites()
        for (major, minor, mount), (placement, filesystem) in known[len(self._sites) :]:
            number = self._filesystems.setdefault(filesystem, len(self._filesystems))
            self._changer.add_site(mount, major, minor, number)
            self._sites.append(placement)

    def _number(self, change: Change, compared_only: bool) -> int:
        """The number of a change; -1 where it takes what is not done here."""
        key = id(change), compared_only
        known = self._changes.get(key)
        if known is None:
            known = self._changes[key] = self._added(change, compared_only), change  # which is kept, and its id with it
        return known[0]

    def _added(self, change: Change, compared_only: bool) -> int:
        before = self._posture(change.before)
        if compared_only:
            return before if before < 0 else self._add(before, -1, -1, -1, -1, None, None, None)
        after, steps = self._posture(change.after), change.steps
        flags = steps.flags_first is not None or steps.flags is not None
        if before < 0 or after < 0 or flags or steps.uid in NO_NUMBERS or steps.gid in NO_NUMBERS or change.errno:
            return -1
        uid, gid, mode = (-1 if number is None else number for number in (steps.uid, steps.gid, steps.mode))
        acl = None if steps.acl is None else listbytes.pack(steps.acl)
        inherited = listbytes.pack(steps.default) if steps.default is not None else steps.no_default or None
        powers = steps.capabilities
        held = capabilities.pack(powers) if powers is not None else steps.no_capabilities or None
        return self._add(before, after, uid, gid, mode, acl, inherited, held)

    def _add(self, *values: Any) -> int:
        number: int = self._changer.add_change(*values)
        return number

    def _posture(self, posture: Posture) -> int:
        """The number of a posture; -1 where more than statx(2) and the attributes is looked at to tell it."""
        if posture.flags is None or posture.kind is Kind.SYMLINK or posture.unmapped:
            return -1
        number = self._postures.get(posture)
        if number is None:
            flags = sum(bit for bit, name in FLAG_BITS if name in posture.flags)
            mode = _TYPES[posture.kind] | stat.S_IMODE(posture.mode)
            added = self._changer.add_posture(mode, posture.uid, posture.gid, flags, _said_of(posture))
            number = self._postures[posture] = int(added)
        return number


def _said_of(posture: Posture) -> bytes:
    """What the attributes of an object with this posture say, as ``fiat._native`` has it."""
    values = [
        None if posture.acl is None else listbytes.pack(posture.acl),
        None if posture.default is None else listbytes.pack(posture.default),
        None if posture.capabilities is None else capabilities.pack(posture.capabilities),
    ]
    if values == [None] * len(values):
        return b""
    labels = [_NOT_SET] * (len(NAMES) - len(values))
    return b"".join([*(_NOT_SET if value is None else _LENGTH.pack(len(value)) + value for value in values), *labels])
