"""Text that the command line needs: the doors to :mod:`fiat.core.text` and the errors, for rooms that see no core."""

from fiat.core.errors import FiatError, HistoryError, NotationError, PathError
from fiat.core.text import near, quoted, visible

__all__ = ["FiatError", "HistoryError", "NotationError", "PathError", "near", "quoted", "visible"]
