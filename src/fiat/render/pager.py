"""A long answer on a terminal, by way of the program that PAGER names: only where it does not fit."""

import os
import shlex
import signal
import subprocess
import sys
from collections.abc import Callable
from typing import IO

_KEEPS_COLOUR = {"LESS": "FRX", "LV": "-c"}
"""What pagers read that show escapes for colours only when told to; what is set already stays."""

_SECURE = "less"
"""The one that can be told to run nothing (``LESSSECURE``)."""


def chosen(named: str, *, as_another: bool) -> list[str] | None:
    """The words of the pager that is named; None where none is wanted.

    Where fiat runs ``as_another`` user than the one who logged in, what the pager can run would run as that user:
    only one that can be told to run nothing is used then.
    """
    try:
        words = shlex.split(named)
    except ValueError:
        return None
    if not words or os.path.basename(words[0]) == "cat":
        return None
    return None if as_another and os.path.basename(words[0]) != _SECURE else words


class Pager:
    """Holds text back until it is more than ``rows`` lines; then it goes through the pager, or else to ``plain``."""

    def __init__(self, words: list[str], rows: int, plain: Callable[[str], object], *, as_another: bool) -> None:
        self._words = words
        self._rows = rows
        self._plain = plain
        self._as_another = as_another
        self._held: list[str] = []
        self._lines = 0
        self._process: subprocess.Popen[str] | None = None
        self._given_up = False

    @property
    def shows(self) -> bool:
        """Whether the pager has the terminal."""
        return self._process is not None

    def write(self, text: str) -> None:
        """Take more text. Raises OSError where a terminal, and BrokenPipeError where the pager takes no more."""
        if self._given_up:
            self._plain(text)
            return
        if self._process is not None:
            assert self._process.stdin is not None
            self._process.stdin.write(text)
            return
        self._held.append(text)
        self._lines += text.count("\n")
        if self._lines > self._rows:
            self._start()

    def close(self) -> None:
        """Show what is held back, or wait until the reader is done with it."""
        held, self._held = "".join(self._held), []
        if self._process is None:
            if held:
                self._plain(held)
            return
        before = signal.signal(signal.SIGINT, signal.SIG_IGN)  # that is for the pager, which goes on
        try:
            self._end(self._process)
        finally:
            signal.signal(signal.SIGINT, before)

    def _start(self) -> None:
        environment = {**_KEEPS_COLOUR, **os.environ}
        if self._as_another:
            environment["LESSSECURE"] = "1"
        held, self._held = "".join(self._held), []
        try:
            sys.stdout.flush()
            self._process = subprocess.Popen(
                self._words, stdin=subprocess.PIPE, env=environment, text=True, errors="backslashreplace"
            )
        except OSError:  # it is not there: as if none had been named
            self._given_up = True
            self._plain(held)
            return
        self.write(held)

    def _end(self, process: subprocess.Popen[str]) -> None:
        stdin: IO[str] | None = process.stdin
        try:
            if stdin is not None:
                stdin.close()
        except BrokenPipeError:
            pass  # whoever read has seen enough
        process.wait()
        self._process = None
        self._given_up = True
