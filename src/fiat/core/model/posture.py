"""What one path says about access."""

from enum import Enum
from typing import NamedTuple

from fiat.core.model.accesslist import AccessList
from fiat.core.model.capabilities import FileCapabilities


class Kind(Enum):
    """The type of a file (POSIX XBD 3.164 "File"), named as machine output names it."""

    FILE = "file"
    DIRECTORY = "directory"
    SYMLINK = "symlink"
    FIFO = "fifo"
    SOCKET = "socket"
    BLOCK = "block"
    CHARACTER = "character"


FLAGS = ("immutable", "append-only")
"""The inode flags that limit change (ioctl_iflags(2))."""


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

    @property
    def directory(self) -> bool:
        """Whether this is a directory, where ``x`` means traverse."""
        return self.kind is Kind.DIRECTORY


class Mount(NamedTuple):
    """One mount, as proc(5) describes ``/proc/PID/mountinfo``.

    ``options`` are those of the mount, ``filesystem_options`` those of the
    file system under it, which every mount of it shares.
    """

    point: str
    type: str
    options: tuple[str, ...] = ("rw",)
    filesystem_options: tuple[str, ...] = ("rw",)

    @property
    def read_only(self) -> bool:
        """Whether nothing can be written through this mount, or to the file system under it."""
        return "ro" in self.options or "ro" in self.filesystem_options


class Status(NamedTuple):
    """The rest of what stat(2) says: not about access, but shown with it.

    ``size`` in bytes, ``changed`` the last status change in nanoseconds since
    the epoch (None where unknown), ``inode`` the pair of device and inode
    number that tells two names of one object. ``birth`` is when the inode was
    made, in nanoseconds since the epoch, 0 where that was not asked or is not
    kept: a new object may get the inode number of one that is gone.
    """

    links: int
    size: int
    changed: int | None
    inode: tuple[int, int]
    birth: int = 0


class Object(NamedTuple):
    """One thing in the file tree as it was found at ``path``.

    ``target`` is where a symlink leads, as the link has it. ``mount`` is None
    where the mount could not be found out. ``label`` is the security label.
    ``script`` is the interpreter that the first line of an executable file
    names after ``#!``. ``keeps_lists`` tells whether the file system keeps
    access lists, None where it was not asked. ``unknown`` pairs what could not be read ("flags",
    "capabilities", "access list") with the errno.
    """

    path: str
    posture: Posture
    status: Status
    mount: Mount | None = None
    target: str | None = None
    label: str | None = None
    script: str | None = None
    keeps_lists: bool | None = None
    unknown: tuple[tuple[str, int], ...] = ()
