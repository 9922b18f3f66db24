"""Whether a history can have been written by anybody but its owner: what is put back from it is done with our rights.

The file, what SQLite keeps beside it, and every directory and link on the way must
belong to root or to whoever acts, and nobody else may write to any of them. That a
directory is sticky does not help: others could still put a file there first.
"""

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import suppress

from fiat.core.errors import HistoryError
from fiat.core.model import listbytes
from fiat.core.model.accesslist import Tag
from fiat.core.model.listbytes import ACCESS_XATTR
from fiat.core.model.mode import octal
from fiat.core.text import quoted
from fiat.host.history.place import usual_place

_LINKS = 40
"""Links that the kernel follows on one way (path_resolution(7))."""

BESIDE = ("-journal", "-wal", "-shm")
"""What SQLite keeps beside a file while it is written, and reads when it is opened after a crash."""


def trusted(place: str, *, make_folder: bool = False) -> str:
    """The history ``place`` by its real path, which is there or may be made.

    With ``make_folder`` the directories on its way are made where they are missing,
    for nobody else. Raises :class:`HistoryError` where somebody else may have
    written to it, and OSError where it cannot be reached.
    """
    folder = _walked(place, os.path.dirname(place), make_folder)
    path = os.path.join(folder, os.path.basename(place))
    _look_at_file(place, path, "the history")
    for ending in BESIDE:
        _look_at_file(place, path + ending, f"what is kept beside the history ({quoted(path + ending)}),")
    return path


def _walked(place: str, folder: str, make_folder: bool) -> str:
    """The real path of ``folder``, with every directory and link on the way looked at."""
    here = "/"
    _look_at_directory(place, here)
    pending = _names(folder)
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
            if not make_folder:
                raise
            os.mkdir(path, 0o700)
            status = os.lstat(path)
        if stat.S_ISLNK(status.st_mode):
            links += 1
            if links > _LINKS:
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
            _look_at_owner(place, path, status, "a link on its way")
            target = os.readlink(path)
            here = "/" if target.startswith("/") else here
            pending += _names(target)
        elif stat.S_ISDIR(status.st_mode):
            _look_at_directory(place, path)
            here = path
        else:
            raise OSError(errno.ENOTDIR, os.strerror(errno.ENOTDIR))
    return here


def _names(path: str) -> list[str]:
    """The names of a path, the last first."""
    return [name for name in reversed(path.split("/")) if name not in ("", ".")]


def _look_at_file(place: str, path: str, what: str) -> None:
    try:
        status = os.lstat(path)
    except FileNotFoundError:
        return
    if not stat.S_ISREG(status.st_mode):
        raise HistoryError(f"{what} {quoted(place)} is no regular file, and is not used")
    if status.st_uid not in (0, os.geteuid()):
        raise HistoryError(f"{what} {quoted(place)} belongs to another user, and is not used")
    if status.st_mode & 0o077:
        raise HistoryError(
            f"{what} {quoted(place)} is open to others ({octal(stat.S_IMODE(status.st_mode))}); "
            "its mode must be 0600, and what it says must be checked first"
        )


def _look_at_owner(place: str, path: str, status: os.stat_result, what: str) -> None:
    if status.st_uid not in (0, os.geteuid()):
        raise HistoryError(
            f"the history {quoted(place)} is not used: {what}, {quoted(path)}, belongs to another user, "
            "who could put another in its place"
        )


def _look_at_directory(place: str, path: str) -> None:
    status = os.lstat(path)
    _look_at_owner(place, path, status, "a directory on its way")
    who = next(_others_who_write(path, status), None)
    if who is not None:
        better = f", such as {quoted(usual_place())}" if place != usual_place() else ""
        raise HistoryError(
            f"the history {quoted(place)} is not used: {who} can write to {quoted(path)} on its way "
            f"({octal(stat.S_IMODE(status.st_mode))}), and put another in its place; "
            f"keep it where only its owner can{better}"
        )


def _others_who_write(path: str, status: os.stat_result) -> Iterator[str]:
    """Who besides root and whoever acts can write to a directory, in words.

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
    from fiat.host.live.accounts import NameService

    accounts = NameService()
    if not accounts.lists_all_groups:
        return True
    return any(gid in accounts.gids_of(user) for user in accounts.users if user.uid not in (0, os.geteuid()))
