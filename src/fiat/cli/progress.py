"""What is shown on a terminal while something long is going on; nothing where stderr is none."""

import os
import sys
import time
from types import TracebackType
from typing import Any

from fiat.core.text import visible

_PATIENCE = 1.0
"""Seconds before anything is shown: what is done by then needs no progress."""

_WIDEST = 50


_reading = "read"


def who_reads(words: str) -> None:
    """Have what is shown while trees are read say who reads them."""
    global _reading
    _reading = words


class Progress:
    """A line with the number of objects, the rate, and the current directory."""

    def __init__(
        self, wanted: bool = True, doing: str = "read", total: int | None = None, unit: str = "objects"
    ) -> None:
        self._wanted = wanted and sys.stderr.isatty() and os.environ.get("TERM") != "dumb"
        self._doing = doing
        self._total = total
        self._unit = unit
        self._begun = time.monotonic()
        self._bar: Any = None
        self._note: list[str] = []

    def __enter__(self) -> "Progress":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Take it away: what follows needs the terminal."""
        self._wanted = False
        if self._bar is not None:
            self._bar.close()

    def note(self, lines: list[str]) -> None:
        """What is known already: it is shown, and stays, once something takes so long that progress is shown."""
        self._note = lines

    def report(self, objects: int, path: str) -> None:
        """So many objects are done, the last of them in the directory ``path``."""
        if not self._wanted:
            return
        first = self._bar is None
        if first:
            if time.monotonic() - self._begun < _PATIENCE:
                return
            from tqdm import tqdm

            self._bar = tqdm(
                total=self._total,
                desc=_reading if self._doing == "read" else self._doing,
                unit=f" {self._unit}",
                leave=False,
                dynamic_ncols=True,
                ascii=True,
            )
            self._bar.start_t -= time.monotonic() - self._begun  # the rate counts from the beginning
        if self._note:
            self._bar.write("\n".join(self._note), file=sys.stderr)
            self._note = []
        where = visible(path)
        self._bar.set_postfix_str(where if len(where) <= _WIDEST else "…" + where[1 - _WIDEST :], refresh=False)
        self._bar.update(objects - self._bar.n)
        if first:
            self._bar.refresh()
