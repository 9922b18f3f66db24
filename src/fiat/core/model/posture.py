"""What one path says about access, and what else is known of the object there."""

from typing import NamedTuple

from fiat.core.model.accesslist import AccessList
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.identity import Identity
from fiat.core.model.kind import Kind
from fiat.core.model.mount import Mount
from fiat.core.model.program import Format, Program

FLAGS = ("immutable", "append-only")
"""The inode flags that limit change (ioctl_iflags(2))."""

OTHER_FLAGS = ("compressed", "nodump", "encrypted")
"""Inode flags that have no say in access, and are only told (statx(2))."""


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
        """The numbers of the users and of the groups that own it, or are named in its list."""
        uids, gids = self.acl.named() if self.acl is not None else (set(), set())
        return {self.uid, *uids}, {self.gid, *gids}

    @property
    def directory(self) -> bool:
        """Whether this is a directory, where ``x`` means traverse."""
        return self.kind is Kind.DIRECTORY


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


class Object(NamedTuple):
    """One thing in the file tree as it was found at ``path``.

    ``target`` is where a symlink leads, as the link has it. ``mount`` is None
    where the mount could not be found out. ``label`` is the security label.
    ``program`` is what execve(2) sees of a regular file, None where nobody
    asked. ``keeps_lists`` tells whether the file system keeps access lists,
    None where it was not asked. ``unknown`` pairs what could not be read
    (one of :data:`UNKNOWN`) with the errno. ``other_flags`` are those of
    :data:`OTHER_FLAGS` that are set, None where that is not known.
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

    @property
    def script(self) -> str | None:
        """The interpreter that a script names; None for what is no script."""
        program = self.program
        return program.runs_with if program is not None and program.format is Format.SCRIPT else None

    @property
    def mount_point(self) -> bool:
        """Whether something is mounted here, by this path or by another: then its name is in use."""
        return self.mount is not None and (self.mount.point == self.path or self.path in self.mount.covered)
