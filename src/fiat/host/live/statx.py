"""statx(2), which Python has no call for.

One call says what otherwise takes a status call, an ioctl and a look into
``/proc/self/fdinfo``: the status, the inode flags, the mount, the time of
birth. The layout is that of ``struct statx`` in ``linux/stat.h``, the same on
every architecture; :data:`LAYOUT` is it for NumPy.
"""

import ctypes
import os
import struct
from collections.abc import Sequence
from itertools import repeat

from fiat.host.live.facts import SECOND, Facts

SIZE = 256
"""Bytes of one answer."""

LAYOUT = (
    ("attributes", "<u8", 8),
    ("links", "<u4", 16),
    ("uid", "<u4", 20),
    ("gid", "<u4", 24),
    ("mode", "<u2", 28),
    ("inode", "<u8", 32),
    ("size", "<i8", 40),
    ("supported", "<u8", 56),
    ("birth", "<i8", 80),
    ("birth_fraction", "<u4", 88),
    ("changed", "<i8", 96),
    ("changed_fraction", "<u4", 104),
    ("modified", "<i8", 112),
    ("modified_fraction", "<u4", 120),
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

BY_NAME = _AT_SYMLINK_NOFOLLOW | _AT_NO_AUTOMOUNT
_HERE, _BY_NAME, _WANTED = repeat(AT_FDCWD), repeat(BY_NAME), repeat(WANTED)

Fields = tuple[int, ...]
"""Attributes, links, uid, gid, mode, inode, size, which attributes are known, birth, change and modification (each in
seconds, and nanoseconds), major and minor number of the device, mount."""

_FIELDS = struct.Struct("=8xQIIIH2xQQ8xQ16xqI4xqI4xqI4x8xIIQ")


class Statx:
    """Makes the calls, all into one buffer with places for so many answers."""

    def __init__(self, answers: int = 1) -> None:
        # PyDLL keeps the interpreter locked: for calls of a microsecond, letting go of it costs more. So would types
        # of the arguments; what is passed needs no conversion.
        self._call = ctypes.PyDLL(None, use_errno=True).statx
        self.buffer = ctypes.create_string_buffer(SIZE * answers)
        start = ctypes.addressof(self.buffer)
        self._places = [ctypes.c_void_p(start + SIZE * place) for place in range(answers)]

    def ask(self, names: Sequence[bytes], first: int = 0) -> bool:
        """Ask for each of the names in the current directory, into the places from ``first`` on.

        False where one of them cannot be answered; those after it are then not asked for.
        """
        return not any(map(self._call, _HERE, names, _BY_NAME, _WANTED, self._places[first : first + len(names)]))

    def error(self, name: bytes) -> int:
        """The errno with which ``name`` in the current directory cannot be asked for; 0 where it can."""
        return ctypes.get_errno() if self._call(AT_FDCWD, name, BY_NAME, WANTED, self._places[0]) else 0

    def fields(self, fd: int) -> Fields:
        """The answer about the object held by ``fd``; raises OSError."""
        if self._call(fd, b"", _AT_EMPTY_PATH, WANTED, self._places[0]):
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number))
        return _FIELDS.unpack_from(self.buffer)

    def facts(self, fd: int) -> Facts:
        """What is known of the object held by ``fd``; raises OSError."""
        (
            attributes,
            links,
            uid,
            gid,
            mode,
            inode,
            size,
            supported,
            born,
            born_ns,
            changed,
            changed_ns,
            modified,
            modified_ns,
            major,
            minor,
            mount,
        ) = self.fields(fd)
        return Facts(
            mode,
            uid,
            gid,
            links,
            size,
            inode,
            os.makedev(major, minor),
            mount,
            attributes & supported,
            born * SECOND + born_ns,
            changed * SECOND + changed_ns,
            modified * SECOND + modified_ns,
        )
