"""What root takes orders from: files that nobody else can have written, unless they are trusted by name."""

import errno
import os
from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

from fiat.core.errors import PathError
from fiat.core.text import shell_word


class Trust(NamedTuple):
    """Whether a file that says what is to be done must be one that nobody else can write to (it is ``needed`` where
    something is changed); but for the ``files`` that whoever acts trusts by name. What was read before is ``held``.
    """

    needed: bool = False
    files: tuple[str, ...] = ()
    held: Mapping[str, bytes] = MappingProxyType({})

    def real(self, path: str, what: str, by_name: str = "") -> str:
        """The real path of the file, called ``what`` in messages; it is trusted ``by_name``, by default by its path.

        Raises :class:`fiat.core.errors.UntrustedFile`, and :class:`PathError` where it cannot be reached.
        """
        by_name = by_name or path
        if not self.needed or by_name in self.files:
            return path
        from fiat.host.trust import FileRoute  # every command knows of trust, and few need this

        remedy = "copy it where only you can write; or, once you have looked at it, add --trust-file "
        try:
            return FileRoute(what, path, remedy + shell_word(by_name)).file()
        except OSError as error:
            raise PathError(path, error.errno or errno.EIO, "read") from error

    def expect_accounts(self, folder: str) -> None:
        """Raise as :meth:`real` does unless the accounts files in ``folder``, by which it is trusted, can be followed:
        who has which number decides who is given what."""
        for name in ("passwd", "group"):
            self.real(os.path.join(folder, name), "the accounts file", folder)

    def read(self, path: str, what: str, most: int) -> bytes:
        """What it holds, from there or from a pipe; errors as above."""
        if path in self.held:
            return self.held[path]
        from fiat.host.textfile import bytes_of

        try:
            return bytes_of(self.real(path, what), most, pipe=True)
        except OSError as error:
            own = error.strerror or ""
            number = error.errno or errno.EIO
            raise PathError(path, number, "read", own if own != os.strerror(number) else "") from error


FREE = Trust()
"""For what only looks, or shows what a change would do."""
