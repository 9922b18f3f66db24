"""Objects changed by ``fiat._native``: the calls of :mod:`fiat.host.live.node`, in the same order."""

import os
import stat
import struct
from collections.abc import Callable, Sequence
from functools import lru_cache
from types import ModuleType
from typing import Any

from fiat.core.change.steps import Change
from fiat.core.change.together import Attempt, Attempted, Came, Tried
from fiat.core.model import capabilities, listbytes
from fiat.core.model.accesslist import AccessList
from fiat.core.model.idmap import NO_NUMBERS
from fiat.core.model.posture import Kind, Placement, Posture
from fiat.host.live.attributes import NAMES
from fiat.host.live.facts import ALL_FLAGS, FLAG_BITS, KINDS
from fiat.host.live.postures import Reader
from fiat.host.live.treenode import LiveTreeNode

_TYPES = {kind: bits for bits, kind in KINDS.items()}
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
        self._kept: list[Change] = []  # they are known by their addresses
        self._read_at = self._reader.kernel.times_read

    def in_turn(self, attempts: Sequence[Attempt | None]) -> Attempted:
        """Make the attempts, as :class:`fiat.core.change.together.Together` says."""
        self._make_ready(attempts)
        return self._told(attempts, self._changer.in_turn(attempts, self._filesystems, self._sites))

    def at_once(self, attempts: Sequence[Attempt | None]) -> Attempted:
        """Make the attempts several at a time."""
        self._make_ready(attempts)
        return self._told(attempts, self._changer.at_once(attempts, self._filesystems, self._sites))

    def _told(
        self, attempts: Sequence[Attempt | None], found: tuple[list[Placement | None], list[tuple[int, int, int, int]]]
    ) -> Attempted:
        sites, ended = found
        told = {}
        for place, came, errno, fd in ended:
            attempt = attempts[place]
            node = None if fd < 0 or attempt is None else LiveTreeNode(self._reader, fd, attempt[0])
            told[place] = Tried(Came(came), errno, node)
        return Attempted(sites, told)

    def _make_ready(self, attempts: Sequence[Attempt | None]) -> None:
        """Begin again where the mounts were read since; know the places that were met, and the changes."""
        if self._read_at != self._reader.kernel.times_read:
            self._begin()
        self._take_sites()
        new = {(id(change), alone): change for _, _, change, _, alone in self._changer.unknown(attempts)}
        for (_, compared_only), change in new.items():
            self._changer.learn(change, compared_only, self._added(change, compared_only=compared_only))
            self._kept.append(change)

    def _take_sites(self) -> None:
        known = self._reader.sites()
        for (major, minor, mount), (placement, filesystem) in known[len(self._sites) :]:
            number = self._filesystems.setdefault(filesystem, len(self._filesystems))
            self._changer.add_site(mount, major, minor, number)
            self._sites.append(placement)

    def _added(self, change: Change, *, compared_only: bool) -> int:
        """The number of a change; -1 where it takes what is not done here."""
        before = self._posture(change.before)
        if compared_only:
            return before if before < 0 else self._add(before, -1, -1, -1, -1, None, None, None)
        after, steps = self._posture(change.after), change.steps
        flags = steps.flags_first is not None or steps.flags is not None
        if before < 0 or after < 0 or flags or steps.uid in NO_NUMBERS or steps.gid in NO_NUMBERS or change.errno:
            return -1
        uid, gid, mode = (-1 if number is None else number for number in (steps.uid, steps.gid, steps.mode))
        acl = None if steps.acl is None else _packed(steps.acl)
        inherited = _packed(steps.default) if steps.default is not None else steps.no_default or None
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
            flags = sum(bit for bit, name in FLAG_BITS if name in posture.flags) if posture.flags else 0
            mode = _TYPES[posture.kind] | stat.S_IMODE(posture.mode)
            added = self._changer.add_posture(mode, posture.uid, posture.gid, flags, _said_of(posture))
            number = self._postures[posture] = int(added)
        return number


@lru_cache(4096)
def _packed(acl: AccessList) -> bytes:
    return listbytes.pack(acl)


def _said_of(posture: Posture) -> bytes:
    """What the attributes of an object with this posture say, as ``fiat._native`` has it."""
    _, _, _, _, acl, default, _, held = posture
    if acl is None and default is None and held is None:
        return b""
    values = [
        None if acl is None else _packed(acl),
        None if default is None else _packed(default),
        None if held is None else capabilities.pack(held),
    ]
    labels = [_NOT_SET] * (len(NAMES) - len(values))
    return b"".join([*(_NOT_SET if value is None else _LENGTH.pack(len(value)) + value for value in values), *labels])
