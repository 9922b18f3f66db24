"""statx(2), which Python has no call for.

One call says what otherwise takes a status call, an ioctl and a look into
``/proc/self/fdinfo``: the status, the inode flags, the mount, the time of
birth. The layout is that of ``struct statx`` in ``linux/stat.h``, the same on
every architecture; :data:`LAYOUT` is it for NumPy.
"""

import ctypes
import os
import struct
from typing import NamedTuple

SIZE = 256
"""Bytes of one answer."""

LAYOUT = (
    ("attributes", "<u8", 8),
    ("links", "<u4", 16),
    ("uid", "<u4", 20),
    ("gid", "<u4", 24),
    ("mode", "<u2", 28),
    ("inode", "<u8", 32),
    ("supported", "<u8", 56),
    ("birth", "<i8", 80),
    ("birth_fraction", "<u4", 88),
    ("device_major", "<u4", 136),
    ("device_minor", "<u4", 140),
    ("mount", "<u8", 144),
)
"""Name, type and offset of the fields that Fiat reads."""

AT_FDCWD = -100
_AT_SYMLINK_NOFOLLOW, _AT_NO_AUTOMOUNT, _AT_EMPTY_PATH = 0x100, 0x800, 0x1000
_BASIC, _BIRTH, _MOUNT_ID = 0x7FF, 0x800, 0x1000
WANTED = _BASIC | _BIRTH | _MOUNT_ID
"""All that is asked for in a call."""

_SECOND = 1_000_000_000
BY_NAME = _AT_SYMLINK_NOFOLLOW | _AT_NO_AUTOMOUNT

# attributes, links, uid, gid, mode, inode, supported, birth and change (seconds, nanoseconds), device, mount
_FIELDS = struct.Struct("=8xQIIIH2xQ16xQ16xqI4xqI4x24xIIQ")


class Status(NamedTuple):
    """What one call says; ``birth`` (0 where it is not kept) and ``changed`` in nanoseconds since the epoch."""

    mode: int
    uid: int
    gid: int
    links: int
    inode: int
    device: int
    mount: int
    attributes: int
    birth: int
    changed: int


class Statx:
    """Makes the calls, all into one buffer of its own."""

    def __init__(self, answers: int = 1) -> None:
        # call(AT_FDCWD, name, BY_NAME, WANTED, address) is 0 when it went well. PyDLL keeps the
        # interpreter locked: for calls of a microsecond, letting go of it costs more.
        self.call = ctypes.PyDLL(None, use_errno=True).statx
        self.call.argtypes = (ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_uint, ctypes.c_void_p)
        self.buffer = ctypes.create_string_buffer(SIZE * answers)
        self.address = ctypes.addressof(self.buffer)

    @staticmethod
    def errno() -> int:
        """Why the last call failed."""
        return ctypes.get_errno()

    def handle(self, fd: int) -> Status:
        """What the object held by ``fd`` is; raises OSError."""
        if self.call(fd, b"", _AT_EMPTY_PATH, WANTED, self.address) != 0:
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number))
        attributes, links, uid, gid, mode, inode, supported, born, born_ns, changed, changed_ns, major, minor, mount = (
            _FIELDS.unpack_from(self.buffer)
        )
        return Status(
            mode=mode,
            uid=uid,
            gid=gid,
            links=links,
            inode=inode,
            device=os.makedev(major, minor),
            mount=mount,
            attributes=attributes & supported,
            birth=born * _SECOND + born_ns,
            changed=changed * _SECOND + changed_ns,
        )
