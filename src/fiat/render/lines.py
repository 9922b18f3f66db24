"""Many lines of machine output at once: what they share is written once, and put beside what each has of its own."""

import csv
import io
from collections.abc import Iterable, Sequence
from json.encoder import encode_basestring_ascii

from fiat.core.text import visible

_SPECIAL = ('"', ",", "\r", "\n")
"""With none of these in it, a cell of a CSV file stands for itself."""


_FORMULA = "=+-@"
"""What a cell begins with that spreadsheets take for a formula."""


def json_texts(texts: Sequence[str]) -> list[str]:
    """Each text as JSON has it."""
    return list(map(encode_basestring_ascii, texts))


def visible_texts(texts: list[str]) -> list[str]:
    """Each text with what is not printable as an escape."""
    together = "".join(texts)
    if together.isprintable() and "\\" not in together:
        return texts
    return list(map(visible, texts))


def csv_cells(texts: list[str]) -> list[str]:
    """Each path as a cell of CSV, made visible; what begins otherwise goes by :func:`csv_cell`."""
    found = visible_texts(texts)
    return list(map(_enclosed, found)) if _special("".join(found)) else found


def csv_text(value: object) -> str:
    """What stands in a cell, as it is written beside others."""
    return _enclosed(csv_cell(value))


def _enclosed(cell: str) -> str:
    return csv_row((cell,)) if _special(cell) else cell


def _special(text: str) -> bool:
    return any(one in text for one in _SPECIAL)


def csv_row(cells: Iterable[object]) -> str:
    """Cells as a row of CSV, or a part of one, without the end of the line."""
    text = io.StringIO()
    csv.writer(text, lineterminator="").writerow(cells)
    return text.getvalue()


def csv_cell(value: object) -> str:
    """What stands in a cell: nothing for null, words for booleans, spaces between the items of a list.

    Control characters and bytes that are not UTF-8 are written as escapes, as in text.
    """
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, (list, tuple)):
        return _no_formula(" ".join(visible(str(item)) for item in value))
    return _no_formula(visible(str(value)))


def _no_formula(text: str) -> str:
    """``text`` with an apostrophe before what a spreadsheet would take for a formula: an account may be called =1+1."""
    return f"'{text}" if text[:1] in _FORMULA and text else text
