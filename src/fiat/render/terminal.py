"""The terminal: its width, its colours, and tables that fit it."""

import os
import sys
import textwrap
from collections.abc import Sequence

INDENT = "  "

# Blue and orange stay apart for every kind of colour vision, and can be read on black and on white.
_CODES = {"strong": "1", "yes": "1;38;5;33", "no": "38;5;166", "faint": "2", "changed": "1;38;5;33"}

NARROW = 80
_READABLE = 110  # prose in longer lines is hard to read


def width() -> int | None:
    """Columns of the terminal, or None where stdout is none: piped output is never cut or wrapped."""
    if not sys.stdout.isatty():
        return None
    try:
        columns = int(os.environ.get("COLUMNS") or 0) or os.get_terminal_size(sys.stdout.fileno()).columns
    except (OSError, ValueError):
        return NARROW
    return max(columns, 40)


def coloured() -> bool:
    """Whether colour may be used: on a terminal, and NO_COLOR is not set."""
    return sys.stdout.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def paint(text: str, meaning: str) -> str:
    """``text`` in the colour for ``meaning``, where colour is used; the words carry it too."""
    if not text or not coloured():
        return text
    return f"\x1b[{_CODES[meaning]}m{text}\x1b[0m"


def say(text: str = "", indent: str = "", hanging: str = "", mark: str = "") -> None:
    """Print a paragraph, wrapped to the terminal.

    ``hanging`` indents the lines after the first; where the text begins with
    ``mark``, that is made to stand out.
    """
    columns = width()
    lines = [indent + text]
    if columns is not None and len(lines[0]) > columns:
        lines = textwrap.wrap(
            text,
            min(columns, _READABLE),
            initial_indent=indent,
            subsequent_indent=indent + hanging,
            break_on_hyphens=False,
            break_long_words=False,
        )
    if mark and lines[0].startswith(indent + mark):
        lines[0] = indent + paint(mark, "no" if mark.startswith("!") else "faint") + lines[0][len(indent + mark) :]
    print("\n".join(lines))


def say_error(text: str) -> None:
    """Print a line on stderr, wrapped where that is a terminal."""
    columns = width() if sys.stderr.isatty() else None
    lines = [text]
    if columns is not None and len(text) > columns:
        lines = textwrap.wrap(
            text, min(columns, _READABLE), subsequent_indent=INDENT, break_on_hyphens=False, break_long_words=False
        )
    print("\n".join(lines), file=sys.stderr)


def table(header: Sequence[str], rows: Sequence[Sequence[str]], *, flexible: int = -1, indent: str = INDENT) -> str:
    """Columns under a header, no lines drawn; the column ``flexible`` wraps where the terminal is narrow."""
    from prettytable import PrettyTable, TableStyle

    drawn = PrettyTable()
    drawn.set_style(TableStyle.PLAIN_COLUMNS)
    drawn.field_names = [paint(cell, "faint") if cell else " " * (place + 1) for place, cell in enumerate(header)]
    drawn.align = "l"
    drawn.left_padding_width = 0
    drawn.right_padding_width = 2
    drawn.add_rows([list(row) for row in rows])
    columns = width()
    if columns is not None and header:
        flexible %= len(header)
        widths = [max(cells(str(row[place])) for row in (header, *rows)) + 2 for place in range(len(header))]
        room = columns - len(indent) - sum(widths) + widths[flexible] - 2
        if room < widths[flexible] - 2:
            drawn.max_width[drawn.field_names[flexible]] = max(room, 12)
    return "\n".join((indent + line).rstrip() for line in drawn.get_string().split("\n"))


def cells(text: str) -> int:
    """How many cells ``text`` takes on a terminal, colour codes not counted."""
    if text.isascii() and "\x1b" not in text:
        return len(text)
    import re

    from wcwidth import wcswidth

    return max(int(wcswidth(re.sub(r"\x1b\[[0-9;]*m", "", text))), 0)
