"""The modules of the name service, asked one by one.

Source: the interface of glibc's modules (info libc, "NSS Modules Interface"): ``_nss_SOURCE_getpwnam_r`` and the
like. Through getpwnam(3) and getgrouplist(3) nobody learns that a source did not answer: these say then what the
others say.

A module is foreign code: it waits for others, it may crash. It is called in a process of its own
(:mod:`fiat.host.accounts.asking`).
"""

from __future__ import annotations

import ctypes
import errno
import re
from collections.abc import Callable
from functools import cache
from typing import Any

from fiat.host.accounts.switch import Status

Row = tuple[str, int, int, str, str, str]
"""A user: name, numbers of user and primary group, comment, home, shell."""

GroupRow = tuple[str, int, tuple[str, ...]]
"""A group: name, number, names of its members."""

Reply = tuple[int | None, Any]
"""A :class:`Status`, None where there is no such module or it cannot do that, and what was asked for."""


class _Passwd(ctypes.Structure):
    """``struct passwd`` (pwd.h)."""

    _fields_ = (
        ("name", ctypes.c_char_p),
        ("password", ctypes.c_char_p),
        ("uid", ctypes.c_uint32),
        ("gid", ctypes.c_uint32),
        ("comment", ctypes.c_char_p),
        ("home", ctypes.c_char_p),
        ("shell", ctypes.c_char_p),
    )

    def row(self) -> Row:
        return _text(self.name), self.uid, self.gid, _text(self.comment), _text(self.home), _text(self.shell)


class _Group(ctypes.Structure):
    """``struct group`` (grp.h)."""

    _fields_ = (
        ("name", ctypes.c_char_p),
        ("password", ctypes.c_char_p),
        ("gid", ctypes.c_uint32),
        ("members", ctypes.POINTER(ctypes.c_char_p)),
    )

    def row(self) -> GroupRow:
        names: list[bytes] = []
        while self.members and (name := self.members[len(names)]) is not None:
            names.append(name)
        return _text(self.name), self.gid, tuple(map(_text, names))


def _text(found: bytes | None) -> str:
    return (found or b"").decode("utf-8", "surrogateescape")


_LARGEST = 1 << 26
"""Bytes that one entry may take: a group of some millions."""


@cache
def _library(source: str) -> ctypes.CDLL | None:
    if not re.fullmatch(r"\w[\w.-]*", source):
        return None
    try:
        return ctypes.CDLL(f"libnss_{source}.so.2")
    except OSError:
        return None


@cache
def _function(source: str, name: str) -> Callable[..., int] | None:
    """The function of a module; from glibc 2.34 on those of its own sources are in the library itself."""
    library = _library(source)
    if library is None:
        return None
    for place in (library, ctypes.CDLL(None)):
        found: Callable[..., int] | None = getattr(place, f"_nss_{source}_{name}", None)
        if found is not None:
            return found
    return None


class _Place:
    """Where a module puts entries, one after the other: one place does for all that it lists."""

    def __init__(self, kind: type[_Passwd] | type[_Group]) -> None:
        self._entry, self._error = kind(), ctypes.c_int()
        self._to_entry, self._to_error = ctypes.byref(self._entry), ctypes.byref(self._error)
        self._make(1 << 12)

    def _make(self, size: int) -> None:
        self._size = size
        self._buffer, self._length = ctypes.create_string_buffer(size), ctypes.c_size_t(size)

    def fill(self, function: Callable[..., int], *key: Any) -> Reply:
        """One call that fills in an entry, with as large a buffer as it takes."""
        while True:
            status = function(*key, self._to_entry, self._buffer, self._length, self._to_error)
            if status != _TRY_AGAIN or self._error.value != errno.ERANGE or self._size >= _LARGEST:
                return status, self._entry.row() if status == _SUCCESS else None
            self._make(self._size * 4)


_TRY_AGAIN, _SUCCESS = int(Status.TRYAGAIN), int(Status.SUCCESS)


def _one(source: str, name: str, kind: type[_Passwd] | type[_Group], *key: Any) -> Reply:
    function = _function(source, name)
    return (None, None) if function is None else _Place(kind).fill(function, *key)


def _all(source: str, of: str, kind: type[_Passwd] | type[_Group]) -> Reply:
    """Everything that a source lists, until it says that there is no more, or says something else; None where it does
    not begin."""
    begin, step, end = (_function(source, name) for name in (f"set{of}", f"get{of}_r", f"end{of}"))
    if begin is None or step is None:
        return None, []
    found: list[Any] = []
    status: int | None = begin(0)
    if status != Status.SUCCESS:
        return status, None
    place = _Place(kind)
    while True:
        status, row = place.fill(step)
        if status != _SUCCESS:
            break
        found.append(row)
    if end is not None:
        end()
    return status, found


def users(source: str) -> Reply:
    """All users that the source lists; NOTFOUND is the usual end of them."""
    return _all(source, "pwent", _Passwd)


def groups(source: str) -> Reply:
    """All groups that the source lists."""
    return _all(source, "grent", _Group)


def user_named(source: str, name: str) -> Reply:
    """The user of this name."""
    return _one(source, "getpwnam_r", _Passwd, _bytes(name))


def user_numbered(source: str, uid: int) -> Reply:
    """The user of this number."""
    return _one(source, "getpwuid_r", _Passwd, ctypes.c_uint32(uid))


def group_named(source: str, name: str) -> Reply:
    """The group of this name."""
    return _one(source, "getgrnam_r", _Group, _bytes(name))


def group_numbered(source: str, gid: int) -> Reply:
    """The group of this number."""
    return _one(source, "getgrgid_r", _Group, ctypes.c_uint32(gid))


def memberships(source: str, name: str, primary: int) -> Reply:
    """The numbers of the groups that a user is in beside the primary one, as initgroups(3) asks for them."""
    function = _function(source, "initgroups_dyn")
    if function is None:
        return None, ()
    memory = ctypes.CDLL(None)
    memory.malloc.restype = ctypes.c_void_p
    start, size, error = ctypes.c_long(1), ctypes.c_long(64), ctypes.c_int()
    place = ctypes.cast(memory.malloc(ctypes.c_size_t(64 * 4)), ctypes.POINTER(ctypes.c_uint32))
    place[0] = primary
    status = function(
        _bytes(name),
        ctypes.c_uint32(primary),
        ctypes.byref(start),
        ctypes.byref(size),
        ctypes.byref(place),
        ctypes.c_long(-1),
        ctypes.byref(error),
    )
    found = tuple(place[1 : start.value])
    memory.free(place)
    return status, found


def _bytes(name: str) -> bytes:
    return name.encode("utf-8", "surrogateescape")


QUESTIONS: dict[str, Callable[..., Reply]] = {
    one.__name__: one for one in (users, groups, user_named, user_numbered, group_named, group_numbered, memberships)
}
"""What can be asked, by name."""
