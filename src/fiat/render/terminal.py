"""The terminal and the streams that this process writes to: width, colour, what is said on stderr, a reader that has
gone."""

import errno
import os
import sys
from contextlib import suppress
from typing import TextIO

from fiat.render.text import Screen


class OutputCut(Exception):
    """Stdout takes no more, and there is no sense in finding out what would have been printed.

    ``status`` is what the command has come to so far.
    """

    def __init__(self, status: int, error: OSError) -> None:
        super().__init__(status, error)
        self.status = status
        self.error = error


def give_up(stream: TextIO) -> None:
    """Send the rest nowhere: Python would try to write what is left again, and complain again, when it ends."""
    with suppress(OSError, ValueError):
        null = os.open(os.devnull, os.O_WRONLY)
        os.dup2(null, stream.fileno())
        os.close(null)
        stream.flush()


def say(text: str) -> None:
    """A line on stderr, after what was printed before it; where nobody can be told, nobody is."""
    with suppress(OSError):  # whoever writes there next is told
        sys.stdout.flush()  # what came before it should also be seen before it
    try:
        print(text, file=sys.stderr, flush=True)
    except OSError:
        give_up(sys.stderr)


def say_cut(command: str, error: OSError) -> None:
    """The last word about output that could not all be printed."""
    gone = error.errno == errno.EPIPE
    reason = "its reader has gone" if gone else error.strerror or str(error)
    say(f"{command}: the output was cut short: {reason}")


NARROW = 80


def width(stream: TextIO | None = None) -> int | None:
    """Columns of the terminal, or None where the stream is none: piped output is never cut or wrapped."""
    stream = stream or sys.stdout
    if not stream.isatty():
        return None
    try:
        columns = int(os.environ.get("COLUMNS") or 0) or os.get_terminal_size(stream.fileno()).columns
    except (OSError, ValueError):
        return NARROW
    return max(columns, 40)


def height(stream: TextIO | None = None) -> int | None:
    """Rows of the terminal but one, which is for the next prompt; None where the stream is none, or does not know."""
    stream = stream or sys.stdout
    try:
        rows = int(os.environ.get("LINES") or 0) or os.get_terminal_size(stream.fileno()).lines
    except (OSError, ValueError):
        return None
    return rows - 1 if rows > 1 else None


def coloured(stream: TextIO) -> bool:
    """Whether colour may be used: on a terminal, and NO_COLOR is not set."""
    return stream.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def screen(stream: TextIO | None = None) -> Screen:
    """The screen behind a stream, that is stdout unless given."""
    stream = stream or sys.stdout
    return Screen(width(stream), coloured(stream))
