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
from typing import Protocol

from fiat.core import accesslist, capabilities
from fiat.core.accesslist import ACCESS_XATTR, DEFAULT_XATTR, AccessList
from fiat.core.errors import FiatError
from fiat.core.posture import FLAGS, Kind, Mount, Object, Posture, Status

_KINDS = {
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
_FLAG_NAMES = tuple(zip((0x10, 0x20), FLAGS, strict=True))

_LABEL_XATTRS = ("security.selinux", "security.SMACK64")
_INTERPRETER_LINE = 256  # BINPRM_BUF_SIZE: what execve(2) reads of a script's first line


class Mounts(Protocol):
    """Where a node asks for its mount."""

    def mount_with_id(self, number: int) -> Mount | None:
        """The mount with this id."""


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
        kind = _KINDS[stat.S_IFMT(status.st_mode)]
        unknown: list[tuple[str, int]] = []
        acl = default = keeps_lists = None
        if kind is not Kind.SYMLINK:  # a symlink has no list, and asking says nothing of the file system
            acl, keeps_lists = self._list(ACCESS_XATTR, "access list", unknown)
        if kind is Kind.DIRECTORY and keeps_lists is not False:
            default, _ = self._list(DEFAULT_XATTR, "default list", unknown)
        script = self._interpreter(unknown) if kind is Kind.FILE and status.st_mode & 0o111 else None
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
        return LiveNode(self._mounts, fd, os.path.join(self.path, name))

    def names(self) -> Iterator[str]:
        """The names in this directory."""
        fd = os.open(self._through, os.O_RDONLY | os.O_DIRECTORY)
        try:
            with os.scandir(fd) as entries:
                for entry in entries:
                    yield entry.name
        finally:
            os.close(fd)

    def change_mode(self, mode: int) -> None:
        """Set the mode of this very inode."""
        os.chmod(self._through, mode)

    def change_list(self, acl: AccessList) -> None:
        """Set the access list of this very inode."""
        os.setxattr(self._through, ACCESS_XATTR, accesslist.pack(acl))

    def close(self) -> None:
        """Close the handle."""
        os.close(self._fd)

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
            return self._flags_unopened(unknown)
        try:
            value = struct.unpack("i", fcntl.ioctl(fd, _GET_FLAGS, bytes(4)))[0]
        except OSError as error:
            if error.errno in (errno.ENOTTY, errno.EOPNOTSUPP, errno.EINVAL, errno.ENOSYS):
                return ()  # this file system keeps no such flags
            unknown.append(("flags", error.errno or errno.EIO))
            return None
        finally:
            os.close(fd)
        return tuple(name for bit, name in _FLAG_NAMES if value & bit)

    def _flags_unopened(self, unknown: list[tuple[str, int]]) -> tuple[str, ...] | None:
        """The flags of what may not be opened; statx(2) has these two with the values of ioctl_iflags(2)."""
        from fiat.host import statx  # rarely needed, and slow to load

        try:
            found, supported = statx.attributes(self._fd)
        except (OSError, AttributeError) as error:  # the latter: a C library without statx
            unknown.append(("flags", getattr(error, "errno", None) or errno.ENOSYS))
            return None
        return tuple(name for bit, name in _FLAG_NAMES if found & supported & bit)

    def _label(self) -> str | None:
        for name in _LABEL_XATTRS:
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
            fd = os.open(self._through, os.O_RDONLY | os.O_NONBLOCK)
            try:
                start = os.read(fd, _INTERPRETER_LINE)
            finally:
                os.close(fd)
        except OSError as error:
            unknown.append(("first line", error.errno or errno.EIO))
            return None
        return interpreter_in(start)

    def _mount(self) -> Mount | None:
        return self._mounts.mount_with_id(_mount_id(self._fd))


def _mount_id(fd: int) -> int:
    with open(f"/proc/self/fdinfo/{fd}", "rb") as file:
        for line in file:
            if line.startswith(b"mnt_id:"):
                return int(line[7:])
    return -1


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
