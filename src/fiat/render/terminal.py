"""The terminal that this process writes to: its width, and whether it may be coloured."""

import os
import sys
from typing import TextIO

from fiat.render.text import Screen

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


def coloured(stream: TextIO) -> bool:
    """Whether colour may be used: on a terminal, and NO_COLOR is not set."""
    return stream.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def screen(stream: TextIO | None = None) -> Screen:
    """The screen behind a stream, that is stdout unless given."""
    stream = stream or sys.stdout
    return Screen(width(stream), coloured(stream))
