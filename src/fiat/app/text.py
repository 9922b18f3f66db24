"""What the command line needs of text, numbers and errors: doors for rooms that see no core."""

from fiat.core.errors import (
    ArrangementError,
    FiatError,
    HistoryError,
    HostError,
    NotationError,
    PathError,
    UntrustedFile,
    WorkError,
)
from fiat.core.text import bounded, joined, near, quoted, shell_word, shortened, visible

__all__ = [
    "ArrangementError",
    "FiatError",
    "HistoryError",
    "HostError",
    "NotationError",
    "PathError",
    "UntrustedFile",
    "WorkError",
    "bounded",
    "joined",
    "near",
    "quoted",
    "shell_word",
    "shortened",
    "visible",
]
