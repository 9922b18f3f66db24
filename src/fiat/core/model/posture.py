"""What one path says about access: its posture, the object there, its identity, its mount, and what execve(2) sees."""

from enum import Enum
from typing import NamedTuple

from fiat.core.model.accesslist import AccessList
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.idmap import NO_NUMBERS, UNMAPPED, IdMap


class Kind(Enum):
    """The type of a file (POSIX XBD 3.164 "File"), named as machine output names it."""

    FILE = "file"
    DIRECTORY = "directory"
    SYMLINK = "symlink"
    FIFO = "fifo"
    SOCKET = "socket"
    BLOCK = "block"
    CHARACTER = "character"

    __hash__ = object.__hash__  # there is one object for each, and postures are looked up very often


NEVER_READ_ONLY = (Kind.FIFO, Kind.SOCKET, Kind.BLOCK, Kind.CHARACTER)
"""What may be written on a read-only file system: it does not hold their contents."""


class Identity(NamedTuple):
    """An inode: of which file system, its number, and when it was made.

    ``filesystem`` names the file system by an identifier of its own, which
    outlives a mount and a restart of the machine, and not by the number of its
    device; it is empty where that is not known. ``birth`` is in nanoseconds since
    the epoch, 0 where it is not known: a new object may be given the inode
    number of one that is gone, and then only the birth tells them apart.
    """

    filesystem: str
    inode: int
    birth: int = 0

    def same_as(self, other: "Identity") -> bool:
        """Whether both may be one object: births, and file systems, count where both are known."""
        if self.inode != other.inode:
            return False
        if self.filesystem != other.filesystem and self.filesystem and other.filesystem:
            return False
        return self.birth == other.birth or not (self.birth and other.birth)


class Mount(NamedTuple):
    """One mount, as proc(5) describes ``/proc/PID/mountinfo``.

    ``options`` are those of the mount, ``filesystem_options`` those of the
    file system under it, which every mount of it shares. ``covered`` are the
    paths on it where nothing is mounted, but where another mount of the same
    file system has something mounted: the kernel keeps such names in use. ``root`` is what of its file system it
    shows.
    """

    point: str
    type: str
    options: tuple[str, ...] = ("rw",)
    filesystem_options: tuple[str, ...] = ("rw",)
    covered: tuple[str, ...] = ()
    beside: tuple[tuple[str, str, str], ...] = ()
    id_map: IdMap | None = None
    root: str = "/"

    @property
    def read_only(self) -> bool:
        """Whether nothing can be written through this mount, or to the file system under it."""
        return "ro" in self.options or "ro" in self.filesystem_options

    @property
    def lets_in(self) -> tuple[int, int] | None:
        """The user and the group whose processes alone a FUSE mount lets in, not even root's (fuse(4)); None for
        everybody."""
        if not self.type.startswith("fuse") or "allow_other" in self.filesystem_options:
            return None
        numbers = dict(option.partition("=")[::2] for option in self.filesystem_options)
        user, group = (numbers.get(name, "") for name in ("user_id", "group_id"))
        return (int(user), int(group)) if user.isdecimal() and group.isdecimal() else None

    @property
    def moves_directories(self) -> bool:
        """Whether any directory can be renamed: an overlay without redirect_dir keeps those of its lower layers where
        they are."""
        return self.type != "overlay" or "redirect_dir=on" in self.filesystem_options

    @property
    def keeps_names_together(self) -> bool:
        """Whether all names of a file change together: an overlay without an index copies up one of them alone."""
        return self.type != "overlay" or "index=on" in self.filesystem_options

    @property
    def filesystem_read_only(self) -> bool:
        """Whether the file system under the mount is read-only, not just this mount of it."""
        return "ro" in self.filesystem_options

    def elsewhere(self, path: str) -> list[str]:
        """The paths by which other mounts show what is at ``path`` on this one, what may be mounted over it aside."""
        return [
            there + path.removeprefix(here) or "/"
            for _, here, there in self.beside
            if path == here or path.startswith(f"{here}/")
        ]

    def shown_below(self, path: str) -> list[str]:
        """The mount points of other mounts that show a part of what is below ``path`` on this one."""
        top = path.rstrip("/")
        return [point for point, here, _ in self.beside if here.startswith(f"{top}/")]


class Format(Enum):
    """The formats that the kernel tells apart, named as machine output names them."""

    SCRIPT = "script"
    BINARY = "binary"
    HANDLED = "handled"
    """A handler takes it that this host has for further kinds of programs (binfmt_misc)."""
    NONE = "none"
    """Nothing that the kernel can run."""
    UNKNOWN = "unknown"
    """It could not be read: it may be either."""

    __hash__ = object.__hash__  # as that of a kind


class Program(NamedTuple):
    """What the first bytes of a file say of running it.

    ``runs_with`` is the path of a script's or a handler's interpreter, or of a
    program's loader, None where it has none. ``problem`` says in words why nothing can be
    run, or what is odd. ``errno`` is what execve(2) answers because of what the
    file holds, ``loader_errno`` where the file is to load a program; 0 where
    that is no hindrance. ``hangs_on`` names what is not evaluated: the program
    that env looks for, or the handler that takes the file.
    """

    format: Format
    runs_with: str | None = None
    problem: str = ""
    errno: int = 0
    loader_errno: int = 0
    hangs_on: str = ""


UNKNOWN_PROGRAM = Program(Format.UNKNOWN)
"""What could not be read."""


class Flag(NamedTuple):
    """One inode flag (ioctl_iflags(2), statx(2)): its name, and its bit for the kernel.

    Where one that ``limits`` is set, nobody may change the posture, write, rename or remove the object, nor change
    names in it; but one that ``allows_adding`` lets a file be appended to, and names be added.
    """

    name: str
    bit: int
    limits: bool = False
    allows_adding: bool = False


KNOWN_FLAGS = (
    Flag("immutable", 0x10, limits=True),
    Flag("append-only", 0x20, limits=True, allows_adding=True),
    Flag("compressed", 0x4),
    Flag("nodump", 0x40),
    Flag("encrypted", 0x800),
)
"""Every flag that Fiat knows; a new one is a row here."""

LIMITS = {flag.name: flag for flag in KNOWN_FLAGS if flag.limits}
"""Those that limit change, by name."""

FLAGS = tuple(LIMITS)
"""Their names."""

OTHER_FLAGS = tuple(flag.name for flag in KNOWN_FLAGS if not flag.limits)
"""The names of those that have no say in access, and are only told."""


UNKNOWN = ("flags", "capabilities", "access list", "default list", "first bytes")
"""What of an object there may be no reading of."""


class Posture(NamedTuple):
    """Everything one path says about access.

    ``mode`` holds the twelve bits. ``acl`` and ``default`` are None where the
    object has none. ``flags`` holds those of :data:`FLAGS` that are set, or is
    None where they could not be read.
    """

    kind: Kind
    mode: int
    uid: int
    gid: int
    acl: AccessList | None = None
    default: AccessList | None = None
    flags: tuple[str, ...] | None = ()
    capabilities: FileCapabilities | None = None

    def owners(self) -> tuple[set[int], set[int]]:
        """The numbers of the users and of the groups that own it, or are named in its list; not what is no number."""
        uids, gids = self.acl.named() if self.acl is not None else (set(), set())
        return {self.uid, *uids}.difference(NO_NUMBERS), {self.gid, *gids}.difference(NO_NUMBERS)

    @property
    def unmapped(self) -> bool:
        """Whether its owner or its group has no number on the mount by which it is seen: then nobody writes to it."""
        return self.uid == UNMAPPED or self.gid == UNMAPPED

    @property
    def directory(self) -> bool:
        """Whether this is a directory, where ``x`` means traverse."""
        return self.kind is Kind.DIRECTORY


class Placement(NamedTuple):
    """Where an object is; the fields are those of :class:`Object`."""

    mount: Mount | None
    keeps_lists: bool | None


class Status(NamedTuple):
    """The rest of what stat(2) says: not about access, but shown with it.

    ``size`` in bytes, ``changed`` the last status change and ``modified`` the last change
    of the contents, in nanoseconds since the epoch (None where unknown). ``device`` is the number that the running
    kernel has for the file system, 0 where there is none.
    """

    identity: Identity
    links: int = 1
    size: int = 0
    changed: int | None = None
    device: int = 0
    modified: int | None = None


UPPER, LOWER, MERGED = LAYERS = ("upper", "lower", "merged")
"""Where a directory of an overlay comes from: from its upper layer alone, from lower ones alone, or from both."""


class Object(NamedTuple):
    """One thing in the file tree as it was found at ``path``.

    ``target`` is where a symlink leads, as the link has it. ``mount`` is None
    where the mount could not be found out. ``label`` is the security label.
    ``program`` is what execve(2) sees of a regular file, None where nobody
    asked. ``keeps_lists`` tells whether the file system keeps access lists,
    None where it was not asked. ``unknown`` pairs what could not be read
    (one of :data:`UNKNOWN`) with the errno. ``other_flags`` are those of
    :data:`OTHER_FLAGS` that are set, None where that is not known. ``layer`` is one of :data:`LAYERS` for a directory
    of an overlay that cannot move all of them, where that is known. ``refused_below`` pairs permissions (4, 2 or 1)
    that the layers under an overlay refuse to everybody, by the rights of who mounted it, with the errno.
    """

    path: str
    posture: Posture
    status: Status
    mount: Mount | None = None
    target: str | None = None
    label: str | None = None
    program: Program | None = None
    keeps_lists: bool | None = None
    unknown: tuple[tuple[str, int], ...] = ()
    other_flags: tuple[str, ...] | None = None
    layer: str | None = None
    refused_below: tuple[tuple[int, int], ...] = ()

    @property
    def stays(self) -> bool:
        """Whether it is a directory that cannot be renamed, as it comes from a lower layer of an overlay."""
        return self.layer in (LOWER, MERGED) and self.mount is not None and not self.mount.moves_directories

    @property
    def script(self) -> str | None:
        """The interpreter that a script names; None for what is no script."""
        program = self.program
        return program.runs_with if program is not None and program.format is Format.SCRIPT else None

    @property
    def mount_point(self) -> bool:
        """Whether something is mounted here, by this path or by another: then its name is in use."""
        return self.mount is not None and (self.mount.point == self.path or self.path in self.mount.covered)
