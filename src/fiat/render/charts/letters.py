"""How wide text is, by the metrics of the fonts that are drawn with: those that come with Matplotlib."""

from __future__ import annotations

import logging
import os
from functools import cache
from typing import Any

from fiat.core.errors import HostError
from fiat.core.text import visible


def _load() -> Any:
    """Matplotlib, with nothing of the current directory or of the user's settings, and nothing said on stderr.

    It would take a file ``matplotlibrc`` from the current directory, which may be anybody's.
    """
    logging.getLogger("matplotlib").setLevel(logging.CRITICAL)
    given = os.environ.get("MPLCONFIGDIR")
    if given is None:
        import platformdirs

        os.environ["MPLCONFIGDIR"] = platformdirs.user_cache_dir("fiat")  # it keeps a list of fonts there
    here = os.open(".", os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.chdir("/")
        import matplotlib
        import matplotlib.font_manager
        import matplotlib.textpath
    except ImportError as error:
        raise HostError("pictures need Matplotlib: pip install 'fiat[charts]' gets it") from error
    finally:
        os.fchdir(here)
        os.close(here)
        if given is None:
            del os.environ["MPLCONFIGDIR"]
    matplotlib.rcdefaults()
    return matplotlib


matplotlib = _load()

LEADING = 1.17
"""How high a line is, in sizes of its letters: what DejaVu's highest and lowest ones take."""

BASE = 0.93
"""How far below the upper edge of a line its letters stand, in their size."""

_POINTS = 0.72
"""Points that a pixel has."""


@cache
def font(mono: bool, bold: bool, size: float) -> Any:
    """The font with letters of so many pixels."""
    folder = os.path.join(matplotlib.get_data_path(), "fonts", "ttf")
    name = f"DejaVuSans{'Mono' if mono else ''}{'-Bold' if bold else ''}.ttf"
    return matplotlib.font_manager.FontProperties(fname=os.path.join(folder, name), size=size * _POINTS)


@cache
def width_of(text: str, size: float, mono: bool = False, bold: bool = False) -> float:
    """How many pixels wide a line of text is."""
    if not text:
        return 0.0
    measure = matplotlib.textpath.text_to_path.get_text_width_height_descent
    width: float = measure(text, font(mono, bold, size), ismath=False)[0]
    return width / _POINTS


def drawable(text: str, mono: bool = False) -> str:
    """``text`` made harmless, with what the font has no sign for written as an escape."""
    shown = visible(text)
    if shown.isascii():
        return shown
    face = matplotlib.font_manager.get_font(font(mono, False, 12).get_file())
    return "".join(
        char if char.isascii() or face.get_char_index(ord(char)) else f"\\u{ord(char):04x}" for char in shown
    )


def cut(text: str, most: float, size: float, mono: bool = False, bold: bool = False) -> str:
    """``text`` with so much taken out of its middle that it is no wider than ``most``: both ends of a path say more."""
    if width_of(text, size, mono, bold) <= most:
        return text
    low, high = 0, len(text) - 1
    while low < high:
        keep = (low + high + 1) // 2
        if width_of(_without_middle(text, keep), size, mono, bold) <= most:
            low = keep
        else:
            high = keep - 1
    return _without_middle(text, low)


def _without_middle(text: str, keep: int) -> str:
    end = (keep + 1) // 2
    begin = keep - end
    return f"{text[:begin]}…{text[len(text) - end :]}" if keep else "…"


def wrapped(text: str, most: float, size: float, mono: bool = False, bold: bool = False) -> list[str]:
    """``text`` in lines no wider than ``most``, broken at spaces; a word that is wider is cut."""
    found: list[str] = []
    line = ""
    for word in text.split(" "):
        longer = f"{line} {word}" if line else word
        if width_of(longer, size, mono, bold) <= most:
            line = longer
            continue
        if line:
            found.append(line)
        line = cut(word, most, size, mono, bold)
    return [*found, line] if line else found
