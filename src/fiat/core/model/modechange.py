"""Changes of a mode: absolute octal, or clauses.

Octal and clauses follow the *mode* operand of the POSIX.1-2017 utility that changes modes (XCU, EXTENDED DESCRIPTION).
"""

import re
from functools import lru_cache
from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.model.mode import (
    _SHIFT,
    CLASSES,
    EXECUTE,
    EXECUTE_BITS,
    PERMISSION_BITS,
    READ,
    SPECIAL,
    SPECIAL_BITS,
    STICKY,
    WRITE,
    permissions_of,
)
from fiat.core.text import quoted, shortened


class Action(NamedTuple):
    """One operator with what it applies to: ``+rX``, ``=g``, ``-``."""

    operator: str  # "+", "-" or "="
    permissions: str  # letters out of "rwxXst"
    copy: str  # "u", "g", "o", or "" where letters are given


class Clause(NamedTuple):
    """One clause: the classes (empty where left out) and its actions."""

    classes: str  # letters out of "ugoa"
    actions: tuple[Action, ...]


class ModeChange(NamedTuple):
    """A mode as written on a command line: absolute octal, or clauses.

    ``octal`` is the number with ``digits`` digits as written, or None where
    ``clauses`` hold the change.
    """

    text: str
    octal: int | None
    digits: int
    clauses: tuple[Clause, ...]

    @lru_cache(1024)  # noqa: B019 - there are few changes, and they are small
    def apply(self, mode: int, *, directory: bool, umask: int = 0) -> int:
        """The mode that results on an object that has ``mode`` now.

        One to three octal digits set the nine permission bits; a directory's
        special bits stay, a file's are cleared. Four digits set all twelve.
        """
        if self.octal is not None:
            kept = mode & SPECIAL if directory and self.digits <= 3 else 0
            return self.octal | kept
        result = mode
        for clause in self.clauses:
            for action in clause.actions:
                result = _act(result, mode, clause.classes, action, directory=directory, umask=umask)
        return result


# made ready by re when they are first used: most commands never do
_CLAUSE = r"([ugoa]*)((?:[-+=](?:[ugo](?![ugorwxXst])|[rwxXst]*))+)"
_ACTION = r"([-+=])([ugo]|[rwxXst]*)"


def parse_change(word: str) -> ModeChange:
    """Read a mode in octal or clauses.

    Raises :class:`NotationError` that names the clause at fault.
    """
    if re.fullmatch(r"[0-9]+", word):
        if re.fullmatch(r"[0-7]{1,4}", word):
            return ModeChange(word, int(word, 8), len(word), ())
        why = "has a digit over 7" if re.search(r"[89]", word) else "has more than four digits"
        raise NotationError(word, f"mode {shortened(word)} {why}; write one to four octal digits, such as 640 or 2750")
    clauses = []
    for part in word.split(","):
        match = re.fullmatch(_CLAUSE, part)
        if not match:
            raise NotationError(part, _what_is_wrong_with(part, word))
        actions = []
        for operator, what in re.findall(_ACTION, match[2]):
            copies = what in ("u", "g", "o")
            actions.append(Action(operator, "" if copies else what, what if copies else ""))
        clauses.append(Clause(match[1], tuple(actions)))
    return ModeChange(word, None, 0, tuple(clauses))


def _what_is_wrong_with(part: str, word: str) -> str:
    place = f"mode {shortened(word)}" if part == word else f"clause {shortened(part)} of mode {shortened(word)}"
    if not part:
        return f"mode {shortened(word)} has an empty clause; write clauses such as u=rw,g=r with one comma between"
    if not re.search(r"[-+=]", part):
        return f"{place} is neither octal nor has it an operator; write 640, or a clause such as u+x or g=u"
    head = re.match(r"[^-+=]*", part)
    assert head is not None
    stray = re.search(r"[^ugoa]", head[0])
    if stray:
        return f"{place}: {quoted(stray[0])} is no class; before the operator stand u, g, o or a"
    stray = re.search(r"[^-+=ugorwxXst]", part[len(head[0]) :])
    if stray:
        return f"{place}: {quoted(stray[0])} is no permission; after the operator stand r, w, x, X, s or t"
    return f"{place}: after an operator stand either permissions (rwxXst) or one class to copy (u, g or o)"


def _act(mode: int, original: int, classes: str, action: Action, *, directory: bool, umask: int) -> int:
    """One action of POSIX.1-2017 XCU, on ``mode``; ``original`` is the mode before all clauses."""
    implied = not classes
    chosen = CLASSES if implied or "a" in classes else classes
    value = 0
    for user_class in chosen:
        value |= _permissions(action, mode, original, user_class, directory) << _SHIFT[user_class]
    if "s" in action.permissions:
        value |= _set_id_of(chosen)
    if "t" in action.permissions:
        # POSIX leaves "u+t" and the like unspecified but no error: sticky has no class.
        value |= STICKY
    if implied:
        value &= ~(umask & PERMISSION_BITS)
    if action.operator == "+":
        return mode | value
    if action.operator == "-":
        return mode & ~value
    return (mode & ~_cleared_by_equals(chosen, action, directory=directory, every=implied or "a" in classes)) | value


def _cleared_by_equals(chosen: str, action: Action, *, directory: bool, every: bool) -> int:
    """The bits that ``=`` clears first.

    POSIX leaves it to the system whether a directory's special bits go. Here
    they stay unless ``s`` or ``t`` is written: a shared directory that loses
    its setgid to ``g=rwx`` is an accident, not a wish.
    """
    cleared = 0
    for user_class in chosen:
        cleared |= 7 << _SHIFT[user_class]
    if not directory or "s" in action.permissions:
        cleared |= _set_id_of(chosen)
    if "t" in action.permissions or (every and not directory):
        cleared |= STICKY
    return cleared


def _set_id_of(classes: str) -> int:
    """The bits that ``s`` stands for, written after these classes."""
    return sum(special.bit for special in SPECIAL_BITS if special.letter == "s" and special.user_class in classes)


def _permissions(action: Action, mode: int, original: int, user_class: str, directory: bool) -> int:
    if action.copy:
        return permissions_of(mode, action.copy)
    value = 0
    for letter in action.permissions:
        if letter in "rwx":
            value |= {"r": READ, "w": WRITE, "x": EXECUTE}[letter]
        elif letter == "X" and (directory or original & EXECUTE_BITS):
            value |= EXECUTE
    return value
