"""Inode flags through statx(2), for files that may not be opened.

Python has no call for it. The layout is that of ``struct statx`` in
``linux/stat.h``, the same on every architecture.
"""

import ctypes
import os
import struct

_AT_EMPTY_PATH = 0x1000
_STATX_TYPE = 0x1
_ATTRIBUTES, _ATTRIBUTES_MASK, _SIZE = 8, 56, 256  # offsets, and the size of the whole, in bytes


def attributes(fd: int) -> tuple[int, int]:
    """``stx_attributes`` of the object that ``fd`` holds, and which of them its file system supports.

    Raises OSError.
    """
    buffer = ctypes.create_string_buffer(_SIZE)
    libc = ctypes.CDLL(None, use_errno=True)
    if libc.statx(fd, b"", _AT_EMPTY_PATH, _STATX_TYPE, buffer) != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))
    (found,) = struct.unpack_from("Q", buffer, _ATTRIBUTES)
    (supported,) = struct.unpack_from("Q", buffer, _ATTRIBUTES_MASK)
    return found, supported
