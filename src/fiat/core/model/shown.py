"""How a result looks where it is printed from Python: the core has no words for that, and whoever has them says so."""

from collections.abc import Callable
from typing import Any

_LOOKS: dict[type, Callable[[Any], str]] = {}


def looks(kind: type, as_text: Callable[[Any], str]) -> None:
    """Have what is of this ``kind`` printed ``as_text``."""
    _LOOKS[kind] = as_text


def shown(value: object, otherwise: Callable[[Any], str]) -> str:
    """The value as text; ``otherwise`` makes it, where nobody has said how it looks."""
    return _LOOKS.get(type(value), otherwise)(value)
