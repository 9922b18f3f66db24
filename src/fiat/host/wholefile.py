"""Writing files that are there whole or not at all, for nobody but their owner.

What is written has no name before it is whole and on the disk; no link is
followed at the name, and nothing but a regular file is replaced.
"""

import contextlib
import errno
import fcntl
import os
import re
import stat
from collections.abc import Callable, Iterable, Iterator
from typing import IO

from fiat.host.trust import held_folder

Fill = Callable[[IO[bytes], str], None]
"""Writes all that is to be in a file, which is given, with the name that it is to have."""

_MODE = 0o600


def write(path: str, fill: Fill, instead: str = "") -> int:
    """Have ``fill`` write what is at ``path`` then, in place of a file that is there; how many bytes it has.

    ``instead`` is what would do where a directory is there. Raises OSError.
    """
    folder, name = os.path.split(os.path.abspath(path))
    with held_folder(folder) as directory:
        _remove_leftovers(directory)
        _refuse_what_is_no_file(directory, name, instead)
        with _without_name(directory) as (fd, temporary):
            size = _filled(fd, name, fill)
            between = temporary or _between(name)
            if temporary is None:
                os.link(f"/proc/self/fd/{fd}", between, dst_dir_fd=directory, follow_symlinks=True)
            try:
                _refuse_what_is_no_file(directory, name, instead)
                os.rename(between, name, src_dir_fd=directory, dst_dir_fd=directory)
            except OSError:
                os.unlink(between, dir_fd=directory)
                raise
        os.fsync(directory)
    return size


def write_new(folder: str, names: Iterable[str], fill: Fill) -> tuple[str, int]:
    """Have ``fill`` write a file in ``folder`` under the first of ``names`` that is not there; that name, the bytes."""
    with held_folder(folder) as directory, _without_name(directory) as (fd, temporary):
        _remove_leftovers(directory)
        size = 0
        for name in names:
            size = size or _filled(fd, name, fill)
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


def _refuse_what_is_no_file(directory: int, name: str, instead: str) -> None:
    try:
        kind = os.stat(name, dir_fd=directory, follow_symlinks=False).st_mode
    except FileNotFoundError:
        return
    if stat.S_ISLNK(kind):
        raise OSError(errno.ELOOP, "it is a symlink, which nothing is written through", name)
    if stat.S_ISDIR(kind):
        raise IsADirectoryError(errno.EISDIR, f"it is a directory{instead and f'; {instead}'}", name)
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
        temporary = _between("new")
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


def _filled(fd: int, name: str, fill: Fill) -> int:
    """Write all of it and wait for the disk; how many bytes there are."""
    with open(fd, "wb", closefd=False) as file:
        fill(file, name)
        file.flush()
        os.fsync(fd)
        return os.fstat(fd).st_size
