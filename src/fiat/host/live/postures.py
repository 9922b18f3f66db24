"""The one reader of postures: from what the kernel says of an object to the object.

Facts come from one handle or, thousands at a time, from a whole tree
(:mod:`fiat.host.live.treereader`); what they mean is worked out here for both.
"""

import errno
import os
import stat
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

from fiat.core.model.posture import UNKNOWN_PROGRAM as UNKNOWN
from fiat.core.model.posture import Identity, Kind, Mount, Object, Placement, Posture, Program, Status
from fiat.core.rules import programs
from fiat.host.live import attributes, layers
from fiat.host.live.attributes import NOTHING, Attributes, Raw
from fiat.host.live.facts import KINDS, SECOND, Facts, facts_of, flag_names, flags_by_ioctl, other_flag_names
from fiat.host.live.kernel import Kernel

if TYPE_CHECKING:
    from fiat.core.model.glance import Glance
    from fiat.core.rules.handlers import Handler
    from fiat.engine.pieces import Engine


FLAGS_UNKNOWN = -1
"""In place of the bits of the flags."""

_MACHINE = os.uname().machine

EMPTY = programs.program_in(b"", lambda offset, count: b"", _MACHINE)
TOO_SHORT = programs.program_in(b"x", lambda offset, count: b"", _MACHINE)


class ReadPosture(NamedTuple):
    """A posture with what the attributes say besides."""

    posture: Posture
    said: Attributes


class PostureReader:
    """Makes postures; each distinct one is made once."""

    def __init__(self) -> None:
        self._known: dict[tuple[int, int, int, int, Raw], ReadPosture] = {}
        self._said: dict[Raw, Attributes] = {}

    def of(self, mode: int, uid: int, gid: int, flags: int, raw: Raw) -> ReadPosture:
        """The posture for the type and mode, owners, bits of the flags and attributes of an object."""
        key = (mode, uid, gid, flags, raw)
        found = self._known.get(key)
        if found is None:
            said = self._said.get(raw)
            if said is None:
                said = self._said[raw] = attributes.decoded(raw)
            found = self._known[key] = _made(mode, uid, gid, flags, said)
        return found


def _made(mode: int, uid: int, gid: int, flags: int, said: Attributes) -> ReadPosture:
    kind = KINDS[stat.S_IFMT(mode)]
    named = None if flags == FLAGS_UNKNOWN else flag_names(kind, flags)
    posture = Posture(kind, stat.S_IMODE(mode), uid, gid, said.acl, said.default, named, said.capabilities)
    return ReadPosture(posture, said)


class _Where(NamedTuple):
    """What all objects have in common that are on one mount and one device."""

    site: Placement
    filesystem: str
    lists_attributes: bool
    unmapped_as: tuple[int, int, int]

    @property
    def overlay(self) -> bool:
        """Whether that is an overlay, where what is copied up is born again."""
        return self.site.mount is not None and self.site.mount.type == "overlay"

    def owners(self, uid: int, gid: int) -> tuple[int, int]:
        """The owner and the group that stat(2) shows as these two, or that they have no number here."""
        user, group, none = self.unmapped_as
        return none if uid == user else uid, none if gid == group else gid


class Reader:
    """Reads single objects that are held by handles; ``engine`` gives whoever reads whole trees elsewhere."""

    def __init__(self, kernel: Kernel, postures: PostureReader, engine: "Callable[[], Engine] | None" = None) -> None:
        self.kernel = kernel
        self.postures = postures
        self.engine = engine
        self._known: dict[tuple[int, int, bool], _Where] = {}
        self._listing: dict[tuple[int, ...], _Where] = {}  # by device and mount, where attributes are listed
        self._read_at = 0

    def glance(self, fd: int, through: str) -> "Glance":
        """As much of the object held by ``fd`` as a change looks at; OSError where a part of it cannot be read."""
        from fiat.core.model.glance import glance_at

        return glance_at(self.read(fd, "", through, program=False, exact=True))

    def matches(
        self, fd: int, through: str, posture: Posture, identity: Identity | None, links: int
    ) -> Placement | None:
        """Where it is, if a glance would show exactly this; None also where it takes more to tell.

        Nothing is made but what is compared: a change of many objects asks this twice of each.
        """
        known = self._fields(fd)
        where = self._listing.get(known[-3:])
        mode = known[4]
        if where is None or self._read_at != self.kernel.times_read or stat.S_ISLNK(mode):
            return None
        if identity is not None:
            filesystem, inode, birth = identity
            born = 0 if where.overlay else known[8] * SECOND + known[9]
            if inode != known[5] or birth != born or filesystem != where.filesystem:
                return None
        if links and links != known[1] and not stat.S_ISDIR(mode):
            return None
        listed = os.listxattr(through)
        raw = attributes.read(listed, lambda name: os.getxattr(through, name)) if listed else NOTHING
        found, said = self.postures.of(mode, *where.owners(known[2], known[3]), known[0] & known[7], raw)
        return where.site if found == posture and not said.unknown else None

    def sites(self) -> list[tuple[tuple[int, ...], tuple[Placement, str]]]:
        """The places where statx(2) and listxattr(2) tell everything, by major and minor number of the device and by
        mount: what is known of them, and the names of their file systems."""
        return [
            (where, (known.site, known.filesystem))
            for where, known in self._listing.items()
            if not known.overlay and not known.unmapped_as[2]
        ]

    @cached_property
    def _fields(self) -> Callable[[int], tuple[int, ...]]:
        return self.kernel.statx.fields

    def read(self, fd: int, path: str, through: str, *, program: bool = True, exact: bool = False) -> Object:
        """The object held by ``fd`` as it is now; what may not be read is among its ``unknown``.

        ``through`` leads to it, past its name. Without ``program``, the contents of
        executable files are not looked at. What is ``exact`` has its birth; that
        takes loading what a single look has no need of.
        """
        facts = self.kernel.statx.facts(fd) if exact else facts_of(fd)
        kind = facts.kind
        if self._read_at != self.kernel.times_read:  # a new mount was met: others may have changed too
            self._read_at = self.kernel.times_read
            self._known.clear()
            self._listing.clear()
        link = kind is Kind.SYMLINK  # it has no list, and asking says nothing of the file system
        where = self._known.get((facts.mount, facts.device, link))
        if where is None:
            where = self._known[facts.mount, facts.device, link] = self._where(fd, facts, None if link else through)
            if where.lists_attributes and not link:
                self._listing[os.major(facts.device), os.minor(facts.device), facts.mount] = where
        unknown: list[tuple[str, int]] = []
        flags = facts.flags
        if not (exact and where.lists_attributes):
            flags = self._flags(fd, facts, through, unknown)
        raw = NOTHING
        if not link:
            listed = os.listxattr(through) if where.lists_attributes else attributes.NAMES
            if listed:
                raw = attributes.read(listed, lambda name: os.getxattr(through, name))
        posture, said = self.postures.of(facts.mode, *where.owners(facts.uid, facts.gid), flags, raw)
        unknown += said.unknown
        found = None
        if program and kind is Kind.FILE and facts.mode & 0o111:
            found = program_at(through, facts.size, unknown, self.kernel.handlers, os.path.basename(path))
        layer: str | None = None
        refused: tuple[tuple[int, int], ...] = ()
        if where.overlay and not link:
            layer = self.kernel.layer_of(facts.mount, path, fd) if path and posture.directory else None
            refused = self._refused_below(through, posture, where.site.mount)
        identity = Identity(where.filesystem, facts.inode, 0 if where.overlay else facts.birth)
        return Object(
            path,
            posture,
            Status(identity, facts.links, facts.size, facts.changed, facts.device, facts.modified),
            where.site.mount,
            os.readlink("", dir_fd=fd) if link else None,
            said.label,
            found,
            where.site.keeps_lists,
            tuple(unknown),
            None if flags == FLAGS_UNKNOWN else other_flag_names(kind, flags),
            layer,
            refused,
        )

    def _refused_below(self, through: str, posture: Posture, mount: Mount | None) -> tuple[tuple[int, int], ...]:
        """What the layers of an overlay refuse to everybody, where that can be told."""
        wants = layers.asked_of_layers(posture, mount)
        return layers.refused(through, wants) if wants and self.kernel.overrides_permissions else ()

    def _where(self, fd: int, facts: Facts, through: str | None) -> _Where:
        """Where an object is, which is a symlink where nothing leads ``through`` to it."""
        kernel, mount = self.kernel, facts.mount
        return _Where(
            Placement(kernel.mount_with_id(mount), None if through is None else kernel.keeps_lists(mount, through)),
            kernel.filesystem_of(fd, facts.device, mount),
            kernel.lists_attributes(mount),
            kernel.unmapped_as(mount),
        )

    def _flags(self, fd: int, facts: Facts, through: str, unknown: list[tuple[str, int]]) -> int:
        """The bits of the flags, where the facts need not have them."""
        if facts.kind not in (Kind.FILE, Kind.DIRECTORY):
            return facts.flags  # only these can be opened without a side effect, and they alone carry the flags
        try:
            return flags_by_ioctl(through)
        except OSError:
            pass
        try:  # what may not be opened: statx(2) has these two with the values of ioctl_iflags(2)
            return self.kernel.statx.facts(fd).flags
        except (OSError, AttributeError) as error:  # the latter: a C library without statx
            unknown.append(("flags", getattr(error, "errno", None) or errno.ENOSYS))
            return FLAGS_UNKNOWN


def program_at(
    through: str, size: int, unknown: list[tuple[str, int]], handlers: "Sequence[Handler]", name: str
) -> Program:
    """What execve(2) sees of the regular file called ``name`` at ``through``, which has ``size`` bytes."""
    if size < programs.SHORTEST and not handlers:
        return TOO_SHORT if size else EMPTY
    try:
        return program_of(os.open(through, os.O_RDONLY | os.O_NONBLOCK), handlers, name)
    except OSError as error:
        unknown.append(("first bytes", error.errno or errno.EIO))
        return UNKNOWN


def program_of(fd: int, handlers: "Sequence[Handler]", name: str) -> Program:
    """What execve(2) sees of the file called ``name`` and opened as ``fd``, which it closes."""
    try:
        return program_in(fd, os.read(fd, programs.FIRST_BYTES), handlers, name)
    finally:
        os.close(fd)


def program_in(fd: int, start: bytes, handlers: "Sequence[Handler]", name: str) -> Program:
    """What execve(2) sees of the file called ``name`` and opened as ``fd``, which begins with ``start``."""
    return programs.program_in(start, lambda offset, count: os.pread(fd, count, offset), _MACHINE, handlers, name)
