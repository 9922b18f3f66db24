"""The twelve mode bits, and the three notations for them.

A *mode* is an ``int`` from 0 to 0o7777: setuid, setgid, sticky, then read,
write and execute for owner, group and other. *Permissions* are an ``int``
from 0 to 7 (4 read, 2 write, 1 execute, or traverse on a directory).

Octal and clauses follow the *mode* operand of the POSIX.1-2017 utility that
changes modes (XCU, "EXTENDED DESCRIPTION"); letters follow the mode string
of the XCU directory listing ("STDOUT", file mode field).
"""

from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.text import quoted, shortened

SETUID = 0o4000
SETGID = 0o2000
STICKY = 0o1000
SPECIAL = 0o7000
PERMISSION_BITS = 0o777
EXECUTE_BITS = 0o111

READ, WRITE, EXECUTE = 4, 2, 1

CLASSES = "ugo"
_SHIFT = {"u": 6, "g": 3, "o": 0}


class SpecialBit(NamedTuple):
    """One of the three special bits: its name, and how it is written.

    It is folded into the letters of ``user_class``: the small ``letter`` where the execute bit there is set as well,
    the capital one where it is not.
    """

    bit: int
    name: str
    user_class: str
    letter: str

    @property
    def under(self) -> int:
        """The execute bit of its class."""
        return EXECUTE << _SHIFT[self.user_class]


SPECIAL_BITS = (
    SpecialBit(SETUID, "setuid", "u", "s"),
    SpecialBit(SETGID, "setgid", "g", "s"),
    SpecialBit(STICKY, "sticky", "o", "t"),
)
"""The special bits, in the order of the classes."""


def permissions_of(mode: int, user_class: str) -> int:
    """The permissions (0 to 7) that ``mode`` gives to class ``u``, ``g`` or ``o``."""
    return (mode >> _SHIFT[user_class]) & 7


def special_names(mode: int) -> tuple[str, ...]:
    """The special bits that are set: ``setuid``, ``setgid``, ``sticky``."""
    return tuple(special.name for special in SPECIAL_BITS if mode & special.bit)


# --- octal ---------------------------------------------------------------


def octal(mode: int) -> str:
    """The mode as four octal digits: ``0640``."""
    return f"{mode:04o}"


# --- letters -------------------------------------------------------------


def permission_letters(permissions: int) -> str:
    """Three letters for one class: ``r-x``."""
    return (
        ("r" if permissions & READ else "-")
        + ("w" if permissions & WRITE else "-")
        + ("x" if permissions & EXECUTE else "-")
    )


def letters(mode: int) -> str:
    """Nine letters, special bits folded in: ``rwxr-s--T``.

    ``s`` and ``t`` mean that the execute bit under them is set too, ``S``
    and ``T`` that it is missing.
    """
    text = ""
    for special in SPECIAL_BITS:
        three = permission_letters(permissions_of(mode, special.user_class))
        if mode & special.bit:
            three = three[:2] + (special.letter if three[2] == "x" else special.letter.upper())
        text += three
    return text


def parse_letters(word: str) -> int:
    """The mode that nine letters stand for; :class:`NotationError` if they do not."""
    if len(word) != 9:
        raise NotationError(word, f"{shortened(word)} is {len(word)} letters long; a mode in letters has nine")
    mode = 0
    for place, letter in enumerate(word):
        bit = 0o400 >> place
        if place % 3 == 2:
            special = SPECIAL_BITS[place // 3]
            small, capital = special.letter, special.letter.upper()
            allowed = f"-x{small}{capital}"
            value = {"-": 0, "x": bit, small: bit | special.bit, capital: special.bit}.get(letter)
        else:
            allowed = f"-{'rw'[place % 3]}"
            value = {"-": 0, allowed[1]: bit}.get(letter)
        if value is None:
            raise NotationError(
                word, f"{quoted(letter)} cannot stand at place {place + 1} of {shortened(word)}; one of {allowed} can"
            )
        mode |= value
    return mode


def clauses(mode: int) -> str:
    """Clauses that make ``mode`` out of no mode at all: ``u=rwx,g=rxs,o=,+t``."""
    parts = []
    for special in SPECIAL_BITS:
        three = permission_letters(permissions_of(mode, special.user_class)).replace("-", "")
        with_s = "s" if special.letter == "s" and mode & special.bit else ""
        parts.append(f"{special.user_class}={three}{with_s}")
    return ",".join(parts) + (",+t" if mode & STICKY else "")
