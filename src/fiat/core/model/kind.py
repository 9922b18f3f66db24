"""The type of a file."""

from enum import Enum


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
