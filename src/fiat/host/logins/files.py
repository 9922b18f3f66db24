"""The files of logins, each read once: many people's logins go through the same ones."""

import glob
import os
from collections.abc import Callable, Hashable
from contextlib import suppress
from typing import Any, TypeVar

from fiat.host.evidence.texts import text_of
from fiat.host.logins.words import Token, tokens_of
from fiat.host.textfile import beginning_of

Result = TypeVar("Result")

_LARGEST = 1 << 16
"""Bytes of a shell's file that are looked at."""


_MODULES = tuple(
    f"{folder}/pam_umask.so"
    for folder in ("/lib/*/security", "/usr/lib/*/security", "/lib64/security", "/usr/lib64/security", "/lib/security")
)
_LARGEST_MODULE = 1 << 20


def _held(path: str) -> bytes:
    """What a file holds; nothing where it cannot be read."""
    with suppress(OSError):
        return beginning_of(path, _LARGEST_MODULE)
    return b""


class Files:
    """What files hold, as lines of settings and as words of a shell."""

    def __init__(self) -> None:
        self._texts: dict[str, str] = {}
        self._worked_out: dict[Hashable, Any] = {}
        self._lines: dict[str, list[tuple[int, str]]] = {}
        self._definitions: dict[str, dict[str, tuple[str, int]]] = {}
        self._module: bytes | None = None
        self._tokens: dict[str, list[Token] | OSError | ValueError] = {}

    def text(self, path: str) -> str:
        """What a file holds; nothing where it cannot be read."""
        if path not in self._texts:
            self._texts[path] = text_of(path)
        return self._texts[path]

    def worked_out(self, what: Hashable, work: Callable[[], Result]) -> Result:
        """What comes of work on files, which is done once."""
        if what not in self._worked_out:
            self._worked_out[what] = work()
        found: Result = self._worked_out[what]
        return found

    def numbered(self, path: str) -> list[tuple[int, str]]:
        """The lines of a file with their numbers, those that end in a backslash together; without comments."""
        if path not in self._lines:
            found: list[tuple[int, str]] = []
            going_on = ""
            for number, line in enumerate(self.text(path).split("\n"), 1):
                if line.endswith("\\"):
                    going_on += line[:-1] + " "
                    continue
                whole = (going_on + line).partition("#")[0].strip()
                going_on = ""
                if whole:
                    found.append((number, whole))
            self._lines[path] = found
        return self._lines[path]

    def definitions(self, path: str) -> dict[str, tuple[str, int]]:
        """The first value of each name of a file like login.defs(5), as pam_umask reads it, and its line; in small
        letters."""
        if path not in self._definitions:
            found = self._definitions[path] = {}
            for number, line in enumerate(self.text(path).split("\n"), 1):
                words = line.partition("#")[0].split(None, 1)
                if len(words) == 2:
                    found.setdefault(words[0].lower(), (words[1].strip().strip('"'), number))
        return self._definitions[path]

    def umask_module_asks(self, name: bytes) -> bool:
        """Whether the module of this host that sets the umask knows a setting: only newer ones look at some, and hold
        their names then. Of a module that is not found it is taken that it does."""
        if self._module is None:
            self._module = next(map(_held, (p for one in _MODULES for p in sorted(glob.glob(one)))), b"")
        return name in self._module or not self._module

    def tokens(self, path: str) -> list[Token]:
        """The words of a shell's file; OSError where it cannot be read, ValueError where a quotation does not end."""
        if path not in self._tokens:
            try:
                self._tokens[path] = tokens_of(os.fsdecode(beginning_of(path, _LARGEST)))
            except (OSError, ValueError) as error:
                self._tokens[path] = error
            except RecursionError:
                self._tokens[path] = ValueError("quotations lie in one another without an end")
        found = self._tokens[path]
        if isinstance(found, list):
            return found
        raise found
