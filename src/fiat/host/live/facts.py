"""What the kernel says of one object, before it is made sense of: the facts of stat(2), its mount and its flags."""

import errno
import fcntl
import os
import stat
import struct
from typing import NamedTuple

from fiat.core.model.posture import KNOWN_FLAGS, Kind

KINDS = {
    stat.S_IFREG: Kind.FILE,
    stat.S_IFDIR: Kind.DIRECTORY,
    stat.S_IFLNK: Kind.SYMLINK,
    stat.S_IFIFO: Kind.FIFO,
    stat.S_IFSOCK: Kind.SOCKET,
    stat.S_IFBLK: Kind.BLOCK,
    stat.S_IFCHR: Kind.CHARACTER,
}

# ioctl_iflags(2); the numbers are _IOR('f', 1, long) and _IOW('f', 2, long), which depend on the size of a long
_GET_FLAGS = 2 << 30 | struct.calcsize("l") << 16 | ord("f") << 8 | 1
_SET_FLAGS = 1 << 30 | struct.calcsize("l") << 16 | ord("f") << 8 | 2

SECOND = 1_000_000_000
"""Nanoseconds."""

FLAG_BITS = tuple((flag.bit, flag.name) for flag in KNOWN_FLAGS if flag.limits)
"""The bits of the inode flags; ioctl_iflags(2) and statx(2) have the same ones."""

ALL_FLAGS = sum(bit for bit, _ in FLAG_BITS)

OTHER_FLAG_BITS = tuple((flag.bit, flag.name) for flag in KNOWN_FLAGS if not flag.limits)
"""The bits of those that have no say in access; in both calls the same as well."""

TOLD_FLAGS = ALL_FLAGS | sum(bit for bit, _ in OTHER_FLAG_BITS)


class Facts(NamedTuple):
    """One object: ``mode`` with the type; ``flags`` as bits, 0 where these facts do not have them.

    ``birth``, 0 where it is not known, ``changed`` and ``modified`` are in nanoseconds
    since the epoch. ``mount`` is the number of the mount, -1 where unknown.
    """

    mode: int
    uid: int
    gid: int
    links: int
    size: int
    inode: int
    device: int
    mount: int
    flags: int
    birth: int
    changed: int
    modified: int

    @property
    def kind(self) -> Kind:
        """The type of the object, which the mode holds (inode(7))."""
        return KINDS[stat.S_IFMT(self.mode)]


def facts_of(fd: int) -> Facts:
    """The facts by the calls that Python has; of the inode's flags and its birth these say nothing."""
    status = os.fstat(fd)
    return Facts(
        status.st_mode,
        status.st_uid,
        status.st_gid,
        status.st_nlink,
        status.st_size,
        status.st_ino,
        status.st_dev,
        mount_id(fd),
        0,
        0,
        status.st_ctime_ns,
        status.st_mtime_ns,
    )


def mount_id(fd: int) -> int:
    """The number of the mount that ``fd`` is on (proc(5), ``/proc/PID/fdinfo``); -1 where the kernel does not say."""
    with open(f"/proc/self/fdinfo/{fd}", "rb") as file:
        for line in file:
            if line.startswith(b"mnt_id:"):
                return int(line[7:])
    return -1


def flags_by_ioctl(through: str) -> int:
    """The bits of the flags that are set; OSError where the object may not be opened, or the kernel does not say."""
    fd = os.open(through, os.O_RDONLY | os.O_NONBLOCK)
    try:
        return _flags_of(fd) & TOLD_FLAGS
    except OSError as error:
        if error.errno in _KEEPS_NONE:
            return 0
        raise
    finally:
        os.close(fd)


_KEEPS_NONE = (errno.ENOTTY, errno.EOPNOTSUPP, errno.EINVAL, errno.ENOSYS)
"""What the kernel says where a file system keeps no such flags."""


def flags_are_kept(through: str) -> bool:
    """Whether the file system keeps flags; OSError as above."""
    fd = os.open(through, os.O_RDONLY | os.O_NONBLOCK)
    try:
        _flags_of(fd)
    except OSError as error:
        if error.errno in _KEEPS_NONE:
            return False
        raise
    finally:
        os.close(fd)
    return True


def set_flags(through: str, names: tuple[str, ...]) -> None:
    """Have just the flags ``names`` of those that limit change; every other flag stays as it is.

    OSError where the object may not be opened, or the kernel refuses: EPERM without CAP_LINUX_IMMUTABLE.
    """
    wanted = sum(bit for bit, name in FLAG_BITS if name in names)
    fd = os.open(through, os.O_RDONLY | os.O_NONBLOCK)
    try:
        fcntl.ioctl(fd, _SET_FLAGS, struct.pack("i", _flags_of(fd) & ~ALL_FLAGS | wanted))
    finally:
        os.close(fd)


def set_again(through: str) -> None:
    """Set the flags of a file or a directory to what they are; OSError as above."""
    if stat.S_IFMT(os.stat(through).st_mode) not in (stat.S_IFREG, stat.S_IFDIR):
        return
    fd = os.open(through, os.O_RDONLY | os.O_NONBLOCK)
    try:
        fcntl.ioctl(fd, _SET_FLAGS, struct.pack("i", _flags_of(fd)))
    finally:
        os.close(fd)


def _flags_of(fd: int) -> int:
    """All the bits of the inode flags."""
    found: int = struct.unpack("i", fcntl.ioctl(fd, _GET_FLAGS, bytes(4)))[0]
    return found


def flag_names(kind: Kind, bits: int) -> tuple[str, ...]:
    """The flags that are set in ``bits``; only files and directories carry them."""
    if kind is not Kind.FILE and kind is not Kind.DIRECTORY:
        return ()
    return tuple(name for bit, name in FLAG_BITS if bits & bit)


def other_flag_names(kind: Kind, bits: int) -> tuple[str, ...]:
    """The flags that are set in ``bits`` and have no say in access."""
    if not bits or (kind is not Kind.FILE and kind is not Kind.DIRECTORY):
        return ()
    return tuple(name for bit, name in OTHER_FLAG_BITS if bits & bit)
