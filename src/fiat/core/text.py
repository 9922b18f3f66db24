"""Text: made harmless for a terminal, numbers read from it, and put together in the ways that every room needs."""

import re
from collections.abc import Iterable
from typing import Any

LARGEST = 4_294_967_294
"""The largest number of a user or a group: one more says that none is meant (chown(2))."""

_DIGITS = 20
"""No number that could be one has more digits, with any zeros before it; more are not worth counting."""


def id_number(text: str) -> int | None:
    """The user or group number that ``text`` is in decimal digits; None where it is none."""
    return bounded(text, LARGEST)


def bounded(text: str, most: int) -> int | None:
    """The number from 0 to ``most`` that ``text`` is in decimal digits; None where it is none, however long."""
    if not (text.isascii() and text.isdecimal() and len(text) <= _DIGITS):
        return None
    found = int(text)
    return found if found <= most else None


Fields = dict[str, Any]
"""The members of a JSON object."""


def visible(text: str) -> str:
    """``text`` with everything that is not printable written as an escape.

    Control characters, bytes that are not UTF-8 (surrogate escapes), format
    and separator characters, and the backslash itself become ``\\n``,
    ``\\x1b``, ``\\xff``, ``\\u202e`` and ``\\\\``: the result is printable
    on any terminal and no two different texts look the same.
    """
    if text.isprintable() and "\\" not in text:
        return text
    return "".join(c if c.isprintable() and c != "\\" else _escape(c) for c in text)


def _escape(char: str) -> str:
    code = ord(char)
    named = {"\\": "\\\\", "\n": "\\n", "\t": "\\t", "\r": "\\r"}.get(char)
    if named:
        return named
    if 0xDC80 <= code <= 0xDCFF:  # a byte that is not UTF-8, as os.fsdecode holds it
        return f"\\x{code - 0xDC00:02x}"
    if code < 0x80:
        return f"\\x{code:02x}"
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def quoted(word: str) -> str:
    """``word`` made visible and put between quotation marks."""
    return f"'{visible(word)}'"


def shortened(word: str, most: int = 60) -> str:
    """A word in quotes for a message, which need not be repeated whole where it is very long."""
    return quoted(word) if len(word) <= most else f"{quoted(word[:most])}… ({len(word):,} characters)"


def shell_word(word: str) -> str:
    """``word`` quoted so that a shell reads it back, without a character that is not printable."""
    if word.isprintable():
        import shlex

        return shlex.quote(word)
    parts = (char if char.isprintable() and char not in "\\'" else _octal_escape(char) for char in word)
    return f"$'{''.join(parts)}'"


def _octal_escape(char: str) -> str:
    return "".join(f"\\{byte:03o}" for byte in char.encode("utf-8", "surrogateescape"))


def joined(words: Iterable[str]) -> str:
    """``a``, ``a and b``, ``a, b and c``."""
    given = list(words)
    if len(given) < 2:
        return "".join(given)
    return f"{', '.join(given[:-1])} and {given[-1]}"


def counted(number: int, one: str, many: str = "") -> str:
    """A number with its noun: ``1 user``, ``12 users``; ``many`` is the plural where an s does not make it."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def of_all(number: int, whole: int, one: str) -> str:
    """``12 paths``, or ``5 of 12 paths`` where that is not all."""
    return counted(number, one) if number == whole else f"{number:,} of {counted(whole, one)}"


FEW = 4
"""So many are named each; "such as" stands for more than these."""


def several(names: Iterable[str], what: str = "", show: int = 6) -> str:
    """``4 users: keeper, steward, …``: the count where there are several, the first names, how many more."""
    given = list(names)
    return several_of(given[:show], len(given), what)


def several_of(first: list[str], count: int, what: str = "") -> str:
    """Several names as :func:`several` has them, where only the first are at hand; ``count`` is how many there are."""
    if not count:
        return ""
    shown = ", ".join(first)
    if count > len(first):
        shown += f" and {count - len(first):,} more"
    return f"{count:,} {what}: {shown}" if what and count > 1 else shown


def near(word: str, known: Iterable[str]) -> str:
    """``; near is 'auditor'`` where a known word is much like ``word``, else nothing."""
    import difflib  # only where something went wrong already

    close = difflib.get_close_matches(word, known, n=3, cutoff=0.6)
    return f"; near {'is' if len(close) == 1 else 'are'} {', '.join(quoted(name) for name in close)}" if close else ""


def natural_order(name: str) -> tuple[list[tuple[int, str]], str]:
    """A key that sorts names without regard to case, and numbers in them by value: ``n2`` before ``n10``."""
    parts = [
        _by_value(part) if place % 2 else (0, part.casefold()) for place, part in enumerate(re.split(r"([0-9]+)", name))
    ]
    return parts, name


def _by_value(digits: str) -> tuple[int, str]:
    """How many digits a number has, and these: that sorts as its value does, and a name may have thousands."""
    digits = digits.lstrip("0")
    return len(digits), digits
