"""What execve(2) sees of a file: a script, a program, or neither."""

from enum import Enum
from typing import NamedTuple


class Format(Enum):
    """The formats that the kernel tells apart, named as machine output names them."""

    SCRIPT = "script"
    BINARY = "binary"
    HANDLED = "handled"
    """A handler takes it that this host has for further kinds of programs (binfmt_misc)."""
    NONE = "none"
    """Nothing that the kernel can run."""
    UNKNOWN = "unknown"
    """It could not be read: it may be either."""

    __hash__ = object.__hash__  # as that of a kind


class Program(NamedTuple):
    """What the first bytes of a file say of running it.

    ``runs_with`` is the path of a script's or a handler's interpreter, or of a
    program's loader, None where it has none. ``problem`` says in words why nothing can be
    run, or what is odd. ``errno`` is what execve(2) answers because of what the
    file holds, ``loader_errno`` where the file is to load a program; 0 where
    that is no hindrance. ``hangs_on`` names what is not evaluated: the program
    that env looks for, or the handler that takes the file.
    """

    format: Format
    runs_with: str | None = None
    problem: str = ""
    errno: int = 0
    loader_errno: int = 0
    hangs_on: str = ""


UNKNOWN = Program(Format.UNKNOWN)
"""What could not be read."""
