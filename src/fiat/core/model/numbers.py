"""Numbers of users and groups as they are written."""

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
