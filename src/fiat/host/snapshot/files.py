"""Writing files that are there whole or not at all, for nobody but their owner.

What is written has no name before it is whole and on the disk; no link is
followed at the name, and nothing but a regular file is replaced.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import gzip
import os
import re
import stat
from collections.abc import Iterable, Iterator
from typing import IO, TYPE_CHECKING, Any, cast

from fiat.core.errors import SnapshotError
from fiat.core.text import visible
from fiat.host.trust import held_folder

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


_MODE = 0o600
_PIECE = 1 << 20
"""Characters that are written together."""


def write(path: str, lines: Iterable[str]) -> int:
    """Write ``lines`` to ``path``, in place of a file that is there; how many bytes it has.

    Compressed where the name ends in .gz or .zst. Raises OSError.
    """
    folder, name = os.path.split(os.path.abspath(path))
    with held_folder(folder) as directory:
        _remove_leftovers(directory)
        _refuse_what_is_no_file(directory, name)
        with _without_name(directory) as (fd, temporary):
            size = _fill(fd, name, lines)
            between = temporary or _between(name)
            if temporary is None:
                os.link(f"/proc/self/fd/{fd}", between, dst_dir_fd=directory, follow_symlinks=True)
            try:
                _refuse_what_is_no_file(directory, name)
                os.rename(between, name, src_dir_fd=directory, dst_dir_fd=directory)
            except OSError:
                os.unlink(between, dir_fd=directory)
                raise
        os.fsync(directory)
    return size


def write_new(folder: str, names: Iterable[str], lines: Iterable[str]) -> tuple[str, int]:
    """Write ``lines`` into ``folder`` under the first of ``names`` that is not there; that name, and the bytes."""
    with held_folder(folder) as directory, _without_name(directory) as (fd, temporary):
        _remove_leftovers(directory)
        size = 0
        for name in names:
            size = size or _fill(fd, name, lines)
            source = f"/proc/self/fd/{fd}" if temporary is None else temporary
            try:
                beside = None if temporary is None else directory
                os.link(source, name, src_dir_fd=beside, dst_dir_fd=directory, follow_symlinks=temporary is None)
            except FileExistsError:
                continue
            if temporary is not None:
                os.unlink(temporary, dir_fd=directory)
            os.fsync(directory)
            return name, size
    raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), folder)


def _refuse_what_is_no_file(directory: int, name: str) -> None:
    try:
        kind = os.stat(name, dir_fd=directory, follow_symlinks=False).st_mode
    except FileNotFoundError:
        return
    if stat.S_ISLNK(kind):
        raise OSError(errno.ELOOP, "it is a symlink, which nothing is written through", name)
    if stat.S_ISDIR(kind):
        raise IsADirectoryError(errno.EISDIR, "it is a directory; --add saves into one", name)
    if not stat.S_ISREG(kind):
        raise OSError(errno.EEXIST, "it is there and no regular file", name)


@contextlib.contextmanager
def _without_name(directory: int) -> Iterator[tuple[int, str | None]]:
    """A new file without a name; with one (given as well), removed at the end, where there are no such files."""
    temporary: str | None = None
    try:
        fd = os.open(".", os.O_WRONLY | os.O_TMPFILE | os.O_CLOEXEC, _MODE, dir_fd=directory)
    except OSError as error:
        if error.errno not in (errno.EOPNOTSUPP, errno.EISDIR, errno.ENOENT, errno.EINVAL):
            raise
        temporary = _between("snapshot")
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        fd = os.open(temporary, flags, _MODE, dir_fd=directory)
    try:
        os.fchmod(fd, _MODE)
        fcntl.flock(fd, fcntl.LOCK_EX)  # for as long as it is written: what nobody holds was left by a kill
        yield fd, temporary
    finally:
        os.close(fd)
        if temporary is not None:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(temporary, dir_fd=directory)


def _remove_leftovers(directory: int) -> None:
    """Remove what saves of the same user left when they were killed: files of ours that nobody writes any more."""
    for name in os.listdir(directory):
        if not _LEFTOVER.fullmatch(name):
            continue
        with contextlib.suppress(OSError):  # another's, or it has gone
            fd = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=directory)
            try:
                status = os.fstat(fd)
                if stat.S_ISREG(status.st_mode) and status.st_uid == os.geteuid():
                    fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    os.unlink(name, dir_fd=directory)
            finally:
                os.close(fd)


_LEFTOVER = re.compile(r"\..+\.[0-9a-f]{12}\.part")


def _between(name: str) -> str:
    """The name that it has for the moment between."""
    return f".{name[:200]}.{os.urandom(6).hex()}.part"


def _fill(fd: int, name: str, lines: Iterable[str]) -> int:
    """Write all of it and wait for the disk; how many bytes there are."""
    with open(fd, "wb", closefd=False) as file:
        with _compressed(file, name) as into:
            for piece in _in_pieces(lines):
                into.write(piece.encode("ascii"))
        file.flush()
        os.fsync(fd)
        return os.fstat(fd).st_size


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
