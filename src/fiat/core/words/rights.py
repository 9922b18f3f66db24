"""Rights as people type them: by name, or by the letters r, w and x; several with commas between."""

import re
from collections.abc import Iterable

from fiat.core.model import right as rights
from fiat.core.model.kind import Kind
from fiat.core.model.right import Right, right_named

Asked = tuple[Right, ...]
"""One thing that was asked for: the right itself; or for the letter x those of which one means something there."""

_X: Asked = (rights.EXECUTE, rights.TRAVERSE)
_LETTERS: dict[str, Asked] = {"r": (rights.READ,), "w": (rights.WRITE,), "x": _X}

LETTERS = "r, w and x stand for read, write, and execute or traverse"


def parse_rights(words: Iterable[str]) -> tuple[Asked, ...]:
    """What ``words`` ask for, each thing once; :class:`NotationError` for a word that is no right."""
    found: dict[Asked, None] = {}
    for word in words:
        for part in word.split(","):
            if re.fullmatch("[rwx]{1,3}", part):
                found |= {_LETTERS[letter]: None for letter in part}
            else:
                found[(right_named(part.strip()),)] = None
    return tuple(found)


def on_kind(asked: Asked, kind: Kind | None) -> Right:
    """The one right that is meant on an object of this kind: x is traverse on a directory, else execute."""
    if len(asked) == 1:
        return asked[0]
    return next((one for one in asked if kind is not None and one.applies(kind)), asked[0])
