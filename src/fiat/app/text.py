"""What the command line needs of text, numbers and errors: doors for rooms that see no core."""

from fiat.core.errors import FiatError, HistoryError, NotationError, PathError
from fiat.core.model.numbers import bounded
from fiat.core.text import near, quoted, shortened, visible

__all__ = [
    "FiatError",
    "HistoryError",
    "NotationError",
    "PathError",
    "bounded",
    "near",
    "quoted",
    "shortened",
    "visible",
]
