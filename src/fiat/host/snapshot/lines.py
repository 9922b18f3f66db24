"""The lines of a file that anybody may have written: so many bytes of it and no more, and no waiting for nothing."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from fiat.core.errors import SnapshotError
from fiat.core.text import visible

if TYPE_CHECKING:
    from typing import IO

LONGEST = 8 * 1024 * 1024
"""Bytes of a line: that of one object holds a few hundred, and what is longer is not written."""

LARGEST = 4 * 1024 * 1024 * 1024
"""Bytes of the whole, uncompressed: some ten millions of objects."""

_GZIP, _ZSTANDARD = b"\x1f\x8b", b"\x28\xb5\x2f\xfd"
"""The first bytes of compressed files (RFC 1952, RFC 8878)."""


class CutShort(SnapshotError):
    """Compressed lines without an end."""


def lines_of(path: str) -> Iterator[str]:
    """Each line of the file, or of what comes through the pipe, at ``path``; bytes that are no UTF-8 as surrogates.

    Compressed files are known by their first bytes. Raises OSError, and
    :class:`SnapshotError` for what is neither, and for lines and files that
    are too long.
    """
    fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)  # a pipe that nobody writes to ends at once
    with open(fd, "rb", buffering=1 << 18) as file:
        kind = os.fstat(fd).st_mode
        if not (stat.S_ISREG(kind) or stat.S_ISFIFO(kind)):
            raise SnapshotError("it is neither a regular file nor a pipe")
        os.set_blocking(fd, True)
        yield from _lines_in(_uncompressed(file))


def _lines_in(file: IO[bytes]) -> Iterator[str]:
    whole = 0
    while True:
        try:
            line = file.readline(LONGEST + 1)
        except EOFError as error:
            raise CutShort("it is cut short") from error
        except OSError:
            raise
        except Exception as error:  # what the libraries raise for damage has no kind in common
            raise SnapshotError(f"it is damaged: {visible(str(error)) or type(error).__name__}") from error
        if not line:
            return
        whole += len(line)
        if len(line) > LONGEST:
            raise SnapshotError(f"it has a line of more than {LONGEST:,} bytes")
        if whole > LARGEST:
            raise SnapshotError(f"it has more than {LARGEST:,} bytes")
        yield line.decode("utf-8", "surrogateescape")


def _uncompressed(file: IO[bytes]) -> IO[bytes]:
    """What is in the file; the libraries are loaded where it is compressed."""
    begin = file.peek(4)[:4]  # type: ignore[attr-defined]
    if begin.startswith(_GZIP):
        import gzip

        unpacked: Any = gzip.GzipFile(fileobj=file, mode="rb")
        return unpacked  # type: ignore[no-any-return]
    if begin == _ZSTANDARD:
        from fiat.host.snapshot.compressed import Zstandard

        return Zstandard(file)
    return file
