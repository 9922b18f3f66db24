"""Handlers for further kinds of programs, which the kernel tries before its own (``fs/binfmt_misc.c``).

The kernel's "Kernel Support for miscellaneous Binary Formats": a handler
takes a file by the bytes it begins with, or by the end of its name, and has an
interpreter run it.
"""

import re
from collections.abc import Iterable
from typing import NamedTuple

_SEEN = 256
"""So many bytes of a file the kernel compares; what the file lacks of them is 0 (BINPRM_BUF_SIZE)."""


class Handler(NamedTuple):
    """One handler: its ``name``, what runs the files, and which files these are.

    ``extension`` is the end of their names, without the dot; or they have
    ``magic`` at ``offset``, compared under ``mask``. ``opened`` tells that the
    interpreter was opened when the handler was made: nobody walks to it.
    """

    name: str
    interpreter: str
    extension: str | None = None
    magic: bytes = b""
    mask: bytes = b""
    offset: int = 0
    opened: bool = False

    def takes(self, start: bytes, name: str) -> bool:
        """Whether it takes the file called ``name`` that begins with ``start``."""
        if self.extension is not None:
            _, dot, end = name.rpartition(".")
            return bool(dot) and end == self.extension
        seen = start[:_SEEN].ljust(_SEEN, b"\0")[self.offset : self.offset + len(self.magic)]
        mask = self.mask or b"\xff" * len(self.magic)
        return len(seen) == len(self.magic) and all(
            (one ^ other) & bits == 0 for one, other, bits in zip(seen, self.magic, mask, strict=True)
        )


def parse(name: str, text: str) -> Handler | None:
    """The handler in the text of its file under binfmt_misc; None where it is switched off, or says nothing we know."""
    lines = text.split("\n")
    fields = dict(line.split(" ", 1) for line in lines[1:] if " " in line)
    if lines[0] != "enabled" or "interpreter" not in fields:
        return None
    flags = next((line.partition(":")[2] for line in lines if line.startswith("flags:")), "")
    found = Handler(name, fields["interpreter"], opened="F" in flags)
    if "extension" in fields:
        return found._replace(extension=fields["extension"].removeprefix("."))
    if not re.fullmatch(r"([0-9a-f]{2})+", fields.get("magic", "")):
        return None
    magic, mask = bytes.fromhex(fields["magic"]), bytes.fromhex(fields.get("mask", ""))
    return found._replace(magic=magic, mask=mask, offset=int(fields.get("offset", "0")))


def taking(handlers: Iterable[Handler], start: bytes, name: str) -> Handler | None:
    """The handler that takes the file; which of several comes first, the kernel does not say."""
    return next((handler for handler in handlers if handler.takes(start, name)), None)
