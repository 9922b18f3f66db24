"""The account files of this host, as the C library reads them.

Source: passwd(5), group(5), and how glibc takes lines that are not quite so (nss/nss_files/files-parse.c): blanks
before a line or a number count for nothing, fields that are missing at its end are empty, what has no number is no
account. Lines that begin with + or - speak to the name service and name nobody.
"""

import re
from collections.abc import Iterator

from fiat.core.model.accounts import Group, User
from fiat.core.text import LARGEST as LARGEST_NUMBER
from fiat.host.textfile import beginning_of

PASSWD, GROUP = "/etc/passwd", "/etc/group"

LARGEST = 256 * 1024 * 1024
"""Bytes of an accounts file: some millions of accounts."""

_BLANKS = " \t\n\v\f\r"
"""What isspace(3) takes for a blank in the C locale."""


def text_of(path: str) -> str:
    """What the file at ``path`` holds; nothing where it cannot be read."""
    try:
        return beginning_of(path, LARGEST).decode("utf-8", "surrogateescape")
    except OSError:
        return ""


def users_in(text: str) -> Iterator[User]:
    """The users of a passwd(5) file."""
    for fields in _lines(text):
        if len(fields) < 7:
            fields += [""] * (7 - len(fields))
        uid, gid = _number(fields[2]), _number(fields[3])
        if uid is None or gid is None:
            continue
        if uid <= LARGEST_NUMBER and gid <= LARGEST_NUMBER:  # -1 is no number that a process can have
            yield User(fields[0], uid, gid, fields[4], fields[5], ":".join(fields[6:]))


def groups_in(text: str) -> Iterator[Group]:
    """The groups of a group(5) file."""
    for fields in _lines(text):
        gid = _number(fields[2]) if len(fields) > 2 else None
        if gid is not None and gid <= LARGEST_NUMBER:
            yield Group(fields[0], gid, _names(":".join(fields[3:])))


def _names(text: str) -> tuple[str, ...]:
    names = text.split(",") if text else ()
    return tuple([name for one in names if (name := one.lstrip(_BLANKS))])


def _lines(text: str) -> Iterator[list[str]]:
    for line in text.split("\n"):
        line = line.partition("\0")[0].lstrip(_BLANKS)
        if line and line[0] not in "#+-":
            yield line.split(":")


def _number(field: str) -> int | None:
    """A number as strtoul(3) reads it, and nothing behind it; what is too large is the largest."""
    if field.isdecimal() and field.isascii():
        sign, digits = "", field
    elif match := re.fullmatch(rf"[{_BLANKS}]*([+-]?)([0-9]+)", field):
        sign, digits = match.groups()
    else:
        return None
    number = int(digits) if len(digits) < 20 else 2**63
    return min(-number % 2**64 if sign == "-" else number, 2**32 - 1)
