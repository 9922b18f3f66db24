"""Whether a file can have been written by anybody but its owner: what it says is done with the rights of whoever acts.
And new files, made nowhere that a link of somebody else leads.

The file, and every directory and link on the way to it, must belong to root or to whoever acts, and nobody else may
write to any of them. That a directory is sticky does not help: others could still put a file there first.
"""

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from fiat.core.errors import UntrustedFile
from fiat.core.model import listbytes
from fiat.core.model.accesslist import Tag
from fiat.core.model.listbytes import ACCESS_XATTR
from fiat.core.model.mode import octal
from fiat.core.text import quoted

LINKS = 40
"""Links that the kernel follows on one way (path_resolution(7))."""


class FileRoute:
    """The way to a file or a folder, called ``what`` in messages, which end in what is to be done (``remedy``)."""

    def __init__(self, what: str, place: str, remedy: str = "") -> None:
        self._place = place
        self._called = f"{what} {quoted(place)}"
        self._remedy = f"; {remedy}" if remedy else ""

    def file(self, *, make_folder: bool = False, private: bool = False) -> str:
        """The real path of a file that may be there or not; ``private``, it must be open to nobody else at all.

        With ``make_folder`` the directories on its way are made where they are missing, for nobody else. Raises
        :class:`UntrustedFile` where somebody else may have written to it, and OSError where it cannot be reached.
        """
        here = os.path.abspath(self._place)
        for _ in range(LINKS):
            path = os.path.join(self._walked(os.path.dirname(here), make=make_folder), os.path.basename(here))
            try:
                status = os.lstat(path)
            except FileNotFoundError:
                return path
            if private or not stat.S_ISLNK(status.st_mode):
                self.look_at_file(path, status, private=private)
                return path
            self._expect_owner(path, status, "a link on its way")
            here = os.path.join(os.path.dirname(path), os.readlink(path))
        raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))

    def folder(self, *, make: bool = False) -> str:
        """The real path of a folder, made if it is missing and that is wanted; errors as for :meth:`file`."""
        return self._walked(os.path.abspath(self._place), make=make)

    def look_at_file(self, path: str, status: os.stat_result, *, private: bool, called: str = "") -> None:
        """Raise :class:`UntrustedFile` unless this is a regular file that nobody else can have written."""
        called = called or self._called
        if not stat.S_ISREG(status.st_mode):
            raise UntrustedFile(f"{called} is no regular file, and is not used{self._remedy}")
        if status.st_uid not in (0, os.geteuid()):
            raise UntrustedFile(f"{called} belongs to another user, and is not used{self._remedy}")
        if private and status.st_mode & 0o077:
            raise UntrustedFile(
                f"{called} is open to others ({octal(stat.S_IMODE(status.st_mode))}); "
                "its mode must be 0600, and what it says must be checked first"
            )
        who = next(_others_who_write(path, status), None)
        if who is not None:
            mode = octal(stat.S_IMODE(status.st_mode))
            raise UntrustedFile(f"{called} is not used: {who} can write to it ({mode}){self._remedy}")

    def _walked(self, folder: str, *, make: bool) -> str:
        """The real path of ``folder``, with every directory and link on the way looked at."""
        here = "/"
        self._look_at_directory(here)
        pending = names_of(folder)
        links = 0
        while pending:
            name = pending.pop()
            if name == "..":
                here = os.path.dirname(here)
                continue
            path = os.path.join(here, name)
            try:
                status = os.lstat(path)
            except FileNotFoundError:
                if not make:
                    raise
                os.mkdir(path, 0o700)
                status = os.lstat(path)
            if stat.S_ISLNK(status.st_mode):
                links += 1
                if links > LINKS:
                    raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
                self._expect_owner(path, status, "a link on its way")
                target = os.readlink(path)
                here = "/" if target.startswith("/") else here
                pending += names_of(target)
            elif stat.S_ISDIR(status.st_mode):
                self._look_at_directory(path)
                here = path
            else:
                raise OSError(errno.ENOTDIR, os.strerror(errno.ENOTDIR))
        return here

    def _expect_owner(self, path: str, status: os.stat_result, what: str) -> None:
        if status.st_uid not in (0, os.geteuid()):
            raise UntrustedFile(
                f"{self._called} is not used: {what}, {quoted(path)}, belongs to another user, "
                f"who could put another in its place{self._remedy}"
            )

    def _look_at_directory(self, path: str) -> None:
        status = os.lstat(path)
        self._expect_owner(path, status, "a directory on its way")
        who = next(_others_who_write(path, status), None)
        if who is not None:
            raise UntrustedFile(
                f"{self._called} is not used: {who} can write to {quoted(path)} on its way "
                f"({octal(stat.S_IMODE(status.st_mode))}), and put another in its place{self._remedy}"
            )


def names_of(path: str) -> list[str]:
    """The names of a path, the last first."""
    return [name for name in reversed(path.split("/")) if name not in ("", ".")]


def _others_who_write(path: str, status: os.stat_result) -> Iterator[str]:
    """Who besides root and whoever acts can write to what is at ``path``, in words.

    The group bits are the mask where there is a list, so that without their w
    no entry gives any (acl(5)).
    """
    if status.st_mode & stat.S_IWOTH:
        yield "anybody"
    if not status.st_mode & stat.S_IWGRP:
        return
    groups = {status.st_gid}
    with suppress(OSError):
        for entry in listbytes.unpack(os.getxattr(path, ACCESS_XATTR, follow_symlinks=False)).entries:
            writes = entry.permissions & 2
            if entry.tag is Tag.OWNING_GROUP and not writes:
                groups.discard(status.st_gid)
            elif entry.tag is Tag.NAMED_GROUP and writes and entry.id is not None:
                groups.add(entry.id)
            elif entry.tag is Tag.NAMED_USER and writes and entry.id not in (0, os.geteuid()):
                yield f"user {entry.id}"
    for gid in sorted(groups):
        if _has_other_members(gid):
            yield f"group {gid}"


def _has_other_members(gid: int) -> bool:
    """Whether anybody but root and whoever acts is in a group, as far as this host's accounts list it.

    A group that others may be in without being listed, for its members come from a
    directory server, counts as having some.
    """
    from fiat.host.accounts.nameservice import NameService

    accounts = NameService()
    if not accounts.lists_all_groups:
        return True
    return any(gid in accounts.gids_of(user) for user in accounts.users if user.uid not in (0, os.geteuid()))


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
