"""The file mode creation mask: its notations, and what it leaves.

Source: umask(2); POSIX.1-2017 XCU, the utility that sets it, for the clauses:
there the letters are what is *left*, and change the complement of the mask.
"""

import re
from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.model.mode import PERMISSION_BITS, permission_letters, permissions_of
from fiat.core.model.modechange import parse_change
from fiat.core.text import quoted

FILES = 0o666
DIRECTORIES = 0o777
"""The modes that programs ask for when they make files and directories."""


class UmaskResult(NamedTuple):
    """What a umask leaves of what programs ask for."""

    files: int
    directories: int


def leaves(umask: int) -> UmaskResult:
    """The modes of a new file and a new directory, where no default list applies."""
    return UmaskResult(FILES & ~umask, DIRECTORIES & ~umask)


def clauses(umask: int) -> str:
    """The umask in clauses, which name what is left: ``u=rwx,g=rx,o=rx`` for 022."""
    allowed = PERMISSION_BITS & ~umask
    return ",".join(f"{c}={permission_letters(permissions_of(allowed, c)).replace('-', '')}" for c in "ugo")


def parse(word: str, current: int = 0o022) -> int:
    """A umask in octal or clauses; clauses change what ``current`` leaves.

    Raises :class:`NotationError`.
    """
    change = parse_change(word)
    if change.octal is not None:
        if change.octal > PERMISSION_BITS:
            raise NotationError(word, f"umask {quoted(word)} is over 777; a umask holds permission bits alone")
        return change.octal
    if re.search(r"[st]", word):
        raise NotationError(word, f"umask {quoted(word)}: special bits have no place in a umask")
    return PERMISSION_BITS & ~change.apply(PERMISSION_BITS & ~current, directory=True, umask=0)
