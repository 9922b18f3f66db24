"""Files that anybody may have written, read without waiting for anybody, so many bytes and no more."""

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager

_PIECE = 1 << 16


@contextmanager
def _opened(path: str, kinds: tuple[int, ...]) -> Iterator[int]:
    fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)
    try:
        if stat.S_IFMT(os.fstat(fd).st_mode) not in kinds:
            raise OSError(errno.EINVAL, "it is no regular file", path)
        os.set_blocking(fd, True)
        yield fd
    finally:
        os.close(fd)


def bytes_of(path: str, most: int, *, pipe: bool = False) -> bytes:
    """What the regular file at ``path`` holds; with ``pipe`` what comes through a pipe, too.

    Raises OSError: EINVAL for anything else (a device, a pipe that nobody writes to would never end), EFBIG for more
    than ``most`` bytes.
    """
    with _opened(path, (stat.S_IFREG, stat.S_IFIFO) if pipe else (stat.S_IFREG,)) as fd:
        pieces: list[bytes] = []
        size = 0
        while piece := os.read(fd, _PIECE):
            size += len(piece)
            if size > most:
                raise OSError(errno.EFBIG, f"it has more than {most:,} bytes", path)
            pieces.append(piece)
        return b"".join(pieces)


def beginning_of(path: str, most: int) -> bytes:
    """The first ``most`` bytes of the regular file at ``path``; OSError as from :func:`bytes_of`."""
    with _opened(path, (stat.S_IFREG,)) as fd:
        pieces: list[bytes] = []
        while most > 0 and (piece := os.read(fd, min(most, _PIECE))):
            pieces.append(piece)
            most -= len(piece)
        return b"".join(pieces)
