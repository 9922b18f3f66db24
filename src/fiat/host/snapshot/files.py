"""The lines of snapshots in their files, compressed or not; written whole or not at all, for nobody but their owner."""

from __future__ import annotations

import contextlib
import gzip
import os
import stat
from collections.abc import Iterable, Iterator
from typing import IO, TYPE_CHECKING, Any, cast

from fiat.core.errors import SnapshotError
from fiat.core.text import visible
from fiat.host import wholefile

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


_PIECE = 1 << 20
"""Characters that are written together."""


def write(path: str, lines: Iterable[str]) -> int:
    """Write ``lines`` to ``path``, in place of a file that is there; how many bytes it has.

    Compressed where the name ends in .gz or .zst. Raises OSError.
    """
    return wholefile.write(path, _filling(lines), "--add saves into one")


def write_new(folder: str, names: Iterable[str], lines: Iterable[str]) -> tuple[str, int]:
    """Write ``lines`` into ``folder`` under the first of ``names`` that is not there; that name, and the bytes."""
    return wholefile.write_new(folder, names, _filling(lines))


def _filling(lines: Iterable[str]) -> wholefile.Fill:
    def fill(file: IO[bytes], name: str) -> None:
        with _compressed(file, name) as into:
            for piece in _in_pieces(lines):
                into.write(piece.encode("ascii"))

    return fill


def _in_pieces(lines: Iterable[str]) -> Iterator[str]:
    waiting: list[str] = []
    size = 0
    for line in lines:
        waiting.append(line)
        size += len(line)
        if size >= _PIECE:
            yield "".join(waiting)
            waiting, size = [], 0
    yield "".join(waiting)


@contextlib.contextmanager
def _compressed(file: IO[bytes], name: str) -> Iterator[IO[bytes]]:
    """What to write into, so that what comes out is of the kind that the name says."""
    if name.endswith(".gz"):
        with gzip.GzipFile(filename="", fileobj=file, mode="wb", compresslevel=1, mtime=0) as into:
            yield cast("IO[bytes]", into)
    elif name.endswith(".zst"):
        import zstandard

        packer = zstandard.ZstdCompressor(level=1, write_checksum=True)
        with packer.stream_writer(file, closefd=False) as into:
            yield into
    else:
        yield file
