"""The lines of a file that anybody may have written: so many bytes of it and no more, and no waiting for nothing."""

import os
import stat
from collections.abc import Iterator

from fiat.core.errors import SnapshotError

LONGEST = 8 * 1024 * 1024
"""Bytes of a line: that of one object holds a few hundred."""

LARGEST = 1024 * 1024 * 1024
"""Bytes of the whole: some millions of objects."""


def lines_of(path: str) -> Iterator[str]:
    """Each line of the file, or of what comes through the pipe, at ``path``; bytes that are no UTF-8 as surrogates.

    Raises OSError, and :class:`SnapshotError` for what is neither, and for lines and files that are too long.
    """
    fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)  # a pipe that nobody writes to ends at once
    with open(fd, "rb") as file:
        kind = os.fstat(fd).st_mode
        if not (stat.S_ISREG(kind) or stat.S_ISFIFO(kind)):
            raise SnapshotError("it is neither a regular file nor a pipe")
        os.set_blocking(fd, True)
        whole = 0
        while line := file.readline(LONGEST + 1):
            whole += len(line)
            if len(line) > LONGEST:
                raise SnapshotError(f"it has a line of more than {LONGEST:,} bytes")
            if whole > LARGEST:
                raise SnapshotError(f"it has more than {LARGEST:,} bytes")
            yield line.decode("utf-8", "surrogateescape")
