"""Modes as people type them: octal, letters as a directory listing has them, clauses.

Octal and clauses are :func:`fiat.core.model.modechange.parse_change`'s; ``0o640`` is octal as
programmers write it. Letters say the same as three octal digits, so that a
directory's setgid stays unless an ``s`` or ``t`` speaks of the special bits.
"""

import re
from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.model.mode import parse_letters
from fiat.core.model.modechange import ModeChange, parse_change
from fiat.core.model.posture import Kind
from fiat.core.text import quoted, shortened

TYPE_LETTERS = {
    "-": Kind.FILE,
    "d": Kind.DIRECTORY,
    "l": Kind.SYMLINK,
    "p": Kind.FIFO,
    "s": Kind.SOCKET,
    "b": Kind.BLOCK,
    "c": Kind.CHARACTER,
}
"""The first letter of a ten-letter mode (POSIX.1-2017 XCU, file mode field of a directory listing)."""

_OCTAL = r"0o[0-7]{1,4}"
_LETTERS = r"[-dlpsbc]?[-rwxsStT]{9}\+?"


class TypedMode(NamedTuple):
    """A mode, and the kind of objects it was written for: ten letters tell a file's from a directory's."""

    change: ModeChange
    kind: Kind | None = None


def parse_mode(word: str) -> TypedMode:
    """The mode that ``word`` says in any notation; :class:`NotationError` names what is wrong with it."""
    if re.fullmatch(_OCTAL, word):
        return TypedMode(parse_change(word[2:])._replace(text=word))
    if re.fullmatch(_LETTERS, word):
        try:
            return _in_letters(word)
        except NotationError:
            if not _is_clauses(word):
                raise
    return TypedMode(parse_change(word))


def is_mode(word: str) -> bool:
    """Whether ``word`` is a mode that nobody would take for something else: three digits at least, letters, clauses."""
    if re.fullmatch(r"[0-7]{1,2}", word):
        return False
    try:
        parse_mode(word)
    except NotationError:
        return False
    return True


def _is_clauses(word: str) -> bool:
    try:
        parse_change(word)
    except NotationError:
        return False
    return True


def _in_letters(word: str) -> TypedMode:
    letters = word.removesuffix("+")
    kind = None
    if len(letters) == 10:
        kind = TYPE_LETTERS[letters[0]]
        if kind not in (Kind.FILE, Kind.DIRECTORY):
            raise NotationError(
                word, f"mode {shortened(word)} is that of a {kind.value}; write its other nine letters alone"
            )
        letters = letters[1:]
    mode = parse_letters(letters)
    digits = 4 if re.search("[sStT]", letters) else 3
    return TypedMode(ModeChange(letters, mode, digits, ()), kind)


def type_letter(word: str) -> Kind:
    """The kind that the first of ten letters stands for."""
    kind = TYPE_LETTERS.get(word[0])
    if kind is None:
        known = " ".join(TYPE_LETTERS)
        raise NotationError(
            word[0],
            f"{quoted(word[0])}, the first of ten letters in {quoted(word)}, is no type; these are: {known}",
        )
    return kind
