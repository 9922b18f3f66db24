"""Objects of the real file tree, held open by handles.

Every object is opened once, as a handle (``O_PATH | O_NOFOLLOW``, open(2)),
in the directory that is already held open, so nothing is reached through a
symlink. It is then read and changed through ``/proc/self/fd/N``, which leads
to that very inode whatever happens to the name.
"""

import errno
import fcntl
import os
import re
import stat
import struct
from collections.abc import Iterator
from typing import TYPE_CHECKING, Protocol

from fiat.core.errors import FiatError
from fiat.core.model import accesslist, capabilities
from fiat.core.model.accesslist import ACCESS_XATTR, DEFAULT_XATTR, AccessList
from fiat.core.model.host import Now, Progress, no_progress
from fiat.core.model.posture import FLAGS, Kind, Mount, Object, Posture, Status
from fiat.host.live import attributes
from fiat.host.live.attributes import LABELS, NOTHING, Raw

if TYPE_CHECKING:
    from fiat.core.tree.survey import Survey
    from fiat.host.live.statx import Statx

KINDS = {
    stat.S_IFREG: Kind.FILE,
    stat.S_IFDIR: Kind.DIRECTORY,
    stat.S_IFLNK: Kind.SYMLINK,
    stat.S_IFIFO: Kind.FIFO,
    stat.S_IFSOCK: Kind.SOCKET,
    stat.S_IFBLK: Kind.BLOCK,
    stat.S_IFCHR: Kind.CHARACTER,
}

# ioctl_iflags(2); the number is _IOR('f', 1, long), which depends on the size of a long
_GET_FLAGS = 2 << 30 | struct.calcsize("l") << 16 | ord("f") << 8 | 1
FLAG_NAMES = tuple(zip((0x10, 0x20), FLAGS, strict=True))

SHORTEST_SCRIPT = 3
"""Bytes of ``#!x``: a shorter file names no interpreter."""

_INTERPRETER_LINE = 256  # BINPRM_BUF_SIZE: what execve(2) reads of a script's first line


class Mounts(Protocol):
    """What the nodes of one host share."""

    postures: dict[tuple[int, int, int, Raw], Posture]
    """Postures met before, by type and mode, owner, group and raw attributes."""

    @property
    def statx(self) -> "Statx":
        """What makes the status calls."""

    def mount_with_id(self, number: int) -> Mount | None:
        """The mount with this id."""

    def lists_attributes(self, mount: int) -> bool:
        """Whether listxattr(2) names every attribute on the mount with this id."""


class LiveNode:
    """An object of the real file tree, held open by a handle."""

    def __init__(self, mounts: Mounts, fd: int, path: str) -> None:
        self.path = path
        self._mounts = mounts
        self._fd = fd
        self._through = f"/proc/self/fd/{fd}"

    def look(self) -> Object:
        """The object as it is now; what may not be read is listed as unknown."""
        status = os.fstat(self._fd)
        kind = KINDS[stat.S_IFMT(status.st_mode)]
        unknown: list[tuple[str, int]] = []
        acl = default = keeps_lists = None
        if kind is not Kind.SYMLINK:  # a symlink has no list, and asking says nothing of the file system
            acl, keeps_lists = self._list(ACCESS_XATTR, "access list", unknown)
        if kind is Kind.DIRECTORY and keeps_lists is not False:
            default, _ = self._list(DEFAULT_XATTR, "default list", unknown)
        script = None
        if kind is Kind.FILE and status.st_mode & 0o111 and status.st_size >= SHORTEST_SCRIPT:
            script = self._interpreter(unknown)
        posture = Posture(
            kind=kind,
            mode=stat.S_IMODE(status.st_mode),
            uid=status.st_uid,
            gid=status.st_gid,
            acl=acl,
            default=default,
            flags=self._flags(kind, unknown),
            capabilities=self._capabilities(unknown) if kind is Kind.FILE else None,
        )
        return Object(
            path=self.path,
            posture=posture,
            status=Status(status.st_nlink, status.st_size, status.st_ctime_ns, (status.st_dev, status.st_ino)),
            mount=self._mount(),
            target=os.readlink("", dir_fd=self._fd) if kind is Kind.SYMLINK else None,
            label=self._label(),
            script=script,
            keeps_lists=keeps_lists,
            unknown=tuple(unknown),
        )

    def child(self, name: str) -> "LiveNode":
        """Open the entry ``name`` without following it."""
        fd = os.open(name, os.O_PATH | os.O_NOFOLLOW, dir_fd=self._fd)
        if name == "..":
            return LiveNode(self._mounts, fd, os.path.dirname(self.path))
        path = self.path
        return LiveNode(self._mounts, fd, f"{path}/{name}" if path != "/" else f"/{name}")

    def names(self) -> Iterator[str]:
        """The names in this directory."""
        fd = os.open(self._through, os.O_RDONLY | os.O_DIRECTORY)
        try:
            with os.scandir(fd) as entries:
                for entry in entries:
                    yield entry.name
        finally:
            os.close(fd)

    def change_owner(self, uid: int | None, gid: int | None) -> None:
        """Set the owner, the group, or both, of this very inode; a symlink's own, not its target's."""
        os.chown(self._through, -1 if uid is None else uid, -1 if gid is None else gid)

    def change_mode(self, mode: int) -> None:
        """Set the mode of this very inode."""
        os.chmod(self._through, mode)

    def change_list(self, acl: AccessList) -> None:
        """Set the access list of this very inode."""
        os.setxattr(self._through, ACCESS_XATTR, accesslist.pack(acl))

    def change_default(self, acl: AccessList | None) -> None:
        """Set or remove the default list of this very inode."""
        self._set_or_remove(DEFAULT_XATTR, None if acl is None else accesslist.pack(acl))

    def change_capabilities(self, value: capabilities.FileCapabilities | None) -> None:
        """Set or remove the file capabilities of this very inode."""
        self._set_or_remove(capabilities.CAPABILITY_XATTR, None if value is None else capabilities.pack(value))

    def _set_or_remove(self, name: str, value: bytes | None) -> None:
        if value is not None:
            os.setxattr(self._through, name, value)
            return
        try:
            os.removexattr(self._through, name)
        except OSError as error:
            if error.errno != errno.ENODATA:
                raise

    def close(self) -> None:
        """Close the handle."""
        os.close(self._fd)

    def survey(self, *, across_mounts: bool = False, progress: Progress = no_progress) -> "Survey":
        """All that is at and under this object."""
        from fiat.host.live import survey as reading  # loads NumPy

        found = self.look()
        found = found._replace(status=found.status._replace(birth=self._mounts.statx.handle(self._fd).birth))
        return reading.survey(self._mounts, self._fd, found, across_mounts=across_mounts, progress=progress)

    def now(self) -> Now:
        """The posture without flags, and which inode it is."""
        mode, uid, gid, links, inode, device, mount, _, birth, changed = self._mounts.statx.handle(self._fd)
        identity = (device, inode)
        raw = NOTHING
        if mode & 0o170000 != stat.S_IFLNK:
            if not self._mounts.lists_attributes(mount):
                return Now(self.look().posture._replace(flags=()), identity, birth, links, changed)
            listed = os.listxattr(self._through)
            if listed:
                raw = attributes.read(listed, lambda name: os.getxattr(self._through, name))
        key = (mode, uid, gid, raw)
        known = self._mounts.postures.get(key)
        if known is None:
            known = self._mounts.postures[key] = _posture(*key)
        return Now(known, identity, birth, links, changed)

    # --- reading one part each; a part that may not be read goes to ``unknown`` ---

    def _attribute(self, name: str) -> bytes | None:
        try:
            return os.getxattr(self._through, name)
        except OSError as error:
            if error.errno == errno.ENODATA:
                return None
            raise

    def _list(self, name: str, what: str, unknown: list[tuple[str, int]]) -> tuple[AccessList | None, bool | None]:
        """The list, and whether the kernel's answer shows that lists are kept here."""
        try:
            value = self._attribute(name)
            return (None if value is None else accesslist.unpack(value)), True
        except OSError as error:
            if error.errno == errno.EOPNOTSUPP:
                return None, False
            unknown.append((what, error.errno or errno.EIO))
        except FiatError:
            unknown.append((what, errno.EINVAL))
        return None, None

    def _capabilities(self, unknown: list[tuple[str, int]]) -> capabilities.FileCapabilities | None:
        try:
            value = self._attribute(capabilities.CAPABILITY_XATTR)
            return None if value is None else capabilities.unpack(value)
        except OSError as error:
            if error.errno != errno.EOPNOTSUPP:
                unknown.append(("capabilities", error.errno or errno.EIO))
        except FiatError:
            unknown.append(("capabilities", errno.EINVAL))
        return None

    def _flags(self, kind: Kind, unknown: list[tuple[str, int]]) -> tuple[str, ...] | None:
        if kind not in (Kind.FILE, Kind.DIRECTORY):
            return ()  # only these can be opened without a side effect, and they alone carry the flags
        try:
            fd = os.open(self._through, os.O_RDONLY | os.O_NONBLOCK)
        except OSError:
            return self._flags_unopened(kind, unknown)
        try:
            value = struct.unpack("i", fcntl.ioctl(fd, _GET_FLAGS, bytes(4)))[0]
        except OSError as error:
            if error.errno in (errno.ENOTTY, errno.EOPNOTSUPP, errno.EINVAL, errno.ENOSYS):
                return ()  # this file system keeps no such flags
            unknown.append(("flags", error.errno or errno.EIO))
            return None
        finally:
            os.close(fd)
        return flag_names(kind, value)

    def _flags_unopened(self, kind: Kind, unknown: list[tuple[str, int]]) -> tuple[str, ...] | None:
        """The flags of what may not be opened; statx(2) has these two with the values of ioctl_iflags(2)."""
        try:
            found = self._mounts.statx.handle(self._fd).attributes
        except (OSError, AttributeError) as error:  # the latter: a C library without statx
            unknown.append(("flags", getattr(error, "errno", None) or errno.ENOSYS))
            return None
        return flag_names(kind, found)

    def _label(self) -> str | None:
        for name in LABELS:
            try:
                value = self._attribute(name)
            except OSError:
                continue
            if value is not None:
                return os.fsdecode(value.rstrip(b"\0"))
        return None

    def _interpreter(self, unknown: list[tuple[str, int]]) -> str | None:
        """The interpreter a script names (execve(2), "Interpreter scripts")."""
        try:
            return interpreter_at(os.open(self._through, os.O_RDONLY | os.O_NONBLOCK))
        except OSError as error:
            unknown.append(("first line", error.errno or errno.EIO))
            return None

    def _mount(self) -> Mount | None:
        return self._mounts.mount_with_id(_mount_id(self._fd))


def _mount_id(fd: int) -> int:
    with open(f"/proc/self/fdinfo/{fd}", "rb") as file:
        for line in file:
            if line.startswith(b"mnt_id:"):
                return int(line[7:])
    return -1


def _posture(mode: int, uid: int, gid: int, raw: Raw) -> Posture:
    """The posture, without flags, that the kernel's answers amount to; OSError where one is missing."""
    said = attributes.decoded(raw)
    if said.unknown:
        what, number = said.unknown[0]
        raise OSError(number, os.strerror(number), what)
    return Posture(
        kind=KINDS[stat.S_IFMT(mode)],
        mode=stat.S_IMODE(mode),
        uid=uid,
        gid=gid,
        acl=said.acl,
        default=said.default,
        capabilities=said.capabilities,
    )


def flag_names(kind: Kind, bits: int) -> tuple[str, ...]:
    """The flags that are set in ``bits``; only files and directories carry them."""
    if kind not in (Kind.FILE, Kind.DIRECTORY):
        return ()
    return tuple(name for bit, name in FLAG_NAMES if bits & bit)


def interpreter_at(fd: int) -> str | None:
    """The interpreter that the file opened as ``fd`` names; closes it."""
    try:
        return interpreter_in(os.read(fd, _INTERPRETER_LINE))
    finally:
        os.close(fd)


def interpreter_in(start: bytes) -> str | None:
    """The interpreter in the first bytes of a file, by the rules of the kernel's ``load_script``.

    Only spaces, tabs, newlines and NUL end its name: a carriage return does
    not. None where the kernel would not take the file for a script.
    """
    if not start.startswith(b"#!"):
        return None
    line, newline, _ = start[2:_INTERPRETER_LINE].partition(b"\n")
    name = re.match(rb"[ \t]*([^ \t\0]+)", line)
    if name is None or (not newline and name.end() == _INTERPRETER_LINE - 2):
        return None  # none, or cut off
    return os.fsdecode(name[1])
