"""New files, made where the path says and nowhere that a link of somebody else leads."""

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager

from fiat.core.errors import UntrustedFile
from fiat.core.text import quoted
from fiat.host.trust import LINKS, names_of


def create(path: str, text: str) -> None:
    """Make a new file of this text, for whom the umask lets.

    Raises OSError, also where there is one already, and :class:`fiat.core.errors.UntrustedFile` where a link of
    somebody else is on the way.
    """
    folder, name = os.path.split(os.path.abspath(path))
    with held_folder(folder) as directory:
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        with open(os.open(name, flags, 0o666, dir_fd=directory), "w", encoding="utf-8") as file:
            file.write(text)


@contextmanager
def held_folder(folder: str) -> Iterator[int]:
    """A handle on a folder that something is to be made in, reached by no link that belongs to anybody but root and
    whoever acts. Raises :class:`UntrustedFile` for such a link, and OSError.
    """
    here = os.open("/", os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
    pending, links = names_of(os.path.abspath(folder)), 0
    try:
        while pending:
            name = pending.pop()
            found = os.open(name, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=here)
            status = os.fstat(found)
            if not stat.S_ISLNK(status.st_mode):
                os.close(here)
                here = found
                continue
            target = os.readlink("", dir_fd=found)
            os.close(found)
            links += 1
            if links > LINKS:
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), folder)
            if status.st_uid not in (0, os.geteuid()):
                raise UntrustedFile(
                    f"nothing is written to {quoted(folder)}: the link {quoted(name)} there belongs to another user"
                )
            pending += names_of(target)
            if target.startswith("/"):
                os.close(here)
                here = os.open("/", os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
        opened = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=here)
        try:
            yield opened
        finally:
            os.close(opened)
    finally:
        os.close(here)
