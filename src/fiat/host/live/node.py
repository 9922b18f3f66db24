"""Objects of the real file tree, held open by handles.

Every object is opened once, as a handle (``O_PATH | O_NOFOLLOW``, open(2)),
in the directory that is already held open, so nothing is reached through a
symlink. It is then read and changed through ``/proc/self/fd/N``, which leads
to that very inode whatever happens to the name.
"""

import errno
import fcntl
import os
import signal
import stat
from collections.abc import Iterator
from typing import TYPE_CHECKING

from fiat.core.model import capabilities, listbytes
from fiat.core.model.accesslist import AccessList
from fiat.core.model.idmap import NO_NUMBERS, OUTSIDE
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR
from fiat.core.model.posture import Identity, Kind, Object, Posture, Program
from fiat.host.live.facts import KINDS, flags_are_kept, mount_id, set_flags
from fiat.host.live.postures import Reader, program_of

if TYPE_CHECKING:
    from fiat.core.model.glance import Glance
    from fiat.core.model.posture import Placement


_PIECE = 1 << 20


def digest_of(fd: int, most: int) -> tuple[str, int] | None:
    """SHA-256 in hexadecimal of the regular file opened as ``fd`` for reading, and how many bytes that are.

    None where it has more than ``most`` bytes, or somebody has it open for writing, or that cannot be told.
    """
    import hashlib  # few commands need it

    if os.fstat(fd).st_size > most or not _nobody_writes(fd):
        return None
    found, size = hashlib.sha256(), 0
    while piece := os.read(fd, _PIECE):
        size += len(piece)
        if size > most:  # it grows
            return None
        found.update(piece)
    return (found.hexdigest(), size) if _nobody_writes(fd) else None


def _nobody_writes(fd: int) -> bool:
    """Whether nobody has the file open for writing, not by way of a mapping either.

    The kernel grants a read lease only then (fcntl(2), F_SETLEASE; it takes owning the file, or CAP_LEASE). It is
    given back at once. Who opens the file meanwhile waits as long; we would be sent a signal, which is made one
    that is passed over.
    """
    try:
        fcntl.fcntl(fd, fcntl.F_SETSIG, signal.SIGURG)
        fcntl.fcntl(fd, fcntl.F_SETLEASE, fcntl.F_RDLCK)
        fcntl.fcntl(fd, fcntl.F_SETLEASE, fcntl.F_UNLCK)
    except OSError:
        return False
    return True


_TO_HOLD = os.O_PATH | os.O_NOFOLLOW


class LiveNode:
    """An object of the real file tree, held open by a handle."""

    __slots__ = ("_through", "fd", "path", "reader")

    def __init__(self, reader: Reader, fd: int, path: str) -> None:
        self.path = path
        self.reader = reader
        self.fd = fd
        self._through = f"/proc/self/fd/{fd}"

    def look(self, *, exact: bool = False) -> Object:
        """The object as it is now; what may not be read is listed as unknown."""
        return self.reader.read(self.fd, self.path, self._through, exact=exact)

    def glance(self) -> "Glance":
        """What a change looks at, as it is now."""
        return self.reader.glance(self.fd, self._through)

    def matches(self, posture: Posture, identity: Identity | None = None, links: int = 0) -> "Placement | None":
        """Where it is, if a glance now would show exactly this and that is told quickly."""
        return self.reader.matches(self.fd, self._through, posture, identity, links)

    def program(self) -> Program:
        """What execve(2) sees of this regular file."""
        fd = os.open(self._through, os.O_RDONLY | os.O_NONBLOCK)
        return program_of(fd, self.reader.kernel.handlers, os.path.basename(self.path))

    def beginning(self, most: int) -> bytes | None:
        """The first bytes of what this regular file holds."""
        fd = self._opened()
        try:
            return os.read(fd, most)
        finally:
            os.close(fd)

    def _opened(self) -> int:
        """The regular file, open for reading."""
        if not stat.S_ISREG(os.fstat(self.fd).st_mode):
            raise OSError(errno.EINVAL, os.strerror(errno.EINVAL), self.path)
        return os.open(self._through, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)

    def digest(self, most: int) -> tuple[str, int] | None:
        """SHA-256 of what this regular file holds, and of how many bytes; None where more, or somebody may write."""
        fd = self._opened()
        try:
            return digest_of(fd, most)
        finally:
            os.close(fd)

    def child(self, name: str) -> "LiveNode":
        """Open the entry ``name`` without following it."""
        path = self.path
        if name == ".." and path == "/":
            name = "."  # nothing is above the root directory, that of another process either
        fd = os.open(name, _TO_HOLD, dir_fd=self.fd)
        if name == "..":
            path = os.path.dirname(path)
        elif name != ".":
            path = f"{path}/{name}" if path != "/" else f"/{name}"
        return type(self)(self.reader, fd, path)

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
        if uid in NO_NUMBERS or gid in NO_NUMBERS:  # there is no asking for such an owner
            number = errno.EINVAL if OUTSIDE in (uid, gid) else errno.EOVERFLOW
            raise OSError(number, os.strerror(number), self.path)
        os.chown(self._through, -1 if uid is None else uid, -1 if gid is None else gid)

    def change_mode(self, mode: int) -> None:
        """Set the mode of this very inode."""
        os.chmod(self._through, mode)

    def change_list(self, acl: AccessList) -> None:
        """Set the access list of this very inode."""
        os.setxattr(self._through, ACCESS_XATTR, listbytes.pack(acl))

    def change_default(self, acl: AccessList | None) -> None:
        """Set or remove the default list of this very inode."""
        self._set_or_remove(DEFAULT_XATTR, None if acl is None else listbytes.pack(acl))

    def change_capabilities(self, value: capabilities.FileCapabilities | None) -> None:
        """Set or remove the file capabilities of this very inode."""
        self._set_or_remove(capabilities.CAPABILITY_XATTR, None if value is None else capabilities.pack(value))

    def change_flags(self, flags: tuple[str, ...]) -> None:
        """Have just these flags on this very inode, which is opened for that once it is known to be openable."""
        self._expect_flags()
        set_flags(self._through, flags)

    def keeps_flags(self) -> bool:
        """Whether its file system keeps flags; taken for granted where it may not be opened."""
        try:
            self._expect_flags()
            return flags_are_kept(self._through)
        except OSError:
            return True

    def _expect_flags(self) -> None:
        """EOPNOTSUPP for what has no flags: opening a pipe or a device would do something."""
        if KINDS[stat.S_IFMT(os.fstat(self.fd).st_mode)] not in (Kind.FILE, Kind.DIRECTORY):
            raise OSError(errno.EOPNOTSUPP, os.strerror(errno.EOPNOTSUPP), self.path)

    def _set_or_remove(self, name: str, value: bytes | None) -> None:
        if value is not None:
            os.setxattr(self._through, name, value)
            return
        try:
            os.removexattr(self._through, name)
        except OSError as error:
            if error.errno != errno.ENODATA:
                raise

    def copy_up(self) -> None:
        """Have it in the upper layer of an overlay."""
        from fiat.host.live.layers import copy_up

        copy_up(self._through)

    def in_lower_layer(self) -> bool | None:
        """Whether it comes from a lower layer of an overlay; None where that is not known."""
        return self.reader.kernel.comes_from_below(mount_id(self.fd), self.path)

    def close(self) -> None:
        """Close the descriptor that is held."""
        os.close(self.fd)
