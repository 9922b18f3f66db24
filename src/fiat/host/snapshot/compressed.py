"""Snapshots compressed with Zstandard (RFC 8878), read so that an end that is missing is noticed."""

import io
from typing import IO, Any

import zstandard

_PIECE = 1 << 10
"""Bytes that are unpacked together. Four may stand for a block of 128 KiB, so that they become 32 MiB at most."""

_BUFFER = 1 << 18
_WINDOW = 1 << 27
"""Bytes that are held for reading at most, whatever the file asks for."""


class _Raw(io.RawIOBase):
    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self._frame = zstandard.ZstdDecompressor(max_window_size=_WINDOW).decompressobj()
        self._ready = memoryview(b"")

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        view = memoryview(into).cast("B")
        while not self._ready and not self._frame.eof:
            piece = self._file.read(_PIECE)
            if not piece:
                raise EOFError
            self._ready = memoryview(self._frame.decompress(piece))
        count = min(len(view), len(self._ready))
        view[:count] = self._ready[:count]
        self._ready = self._ready[count:]
        return count


class Zstandard(io.BufferedReader):
    """What the compressed ``file`` holds; EOFError where it ends too early."""

    def __init__(self, file: IO[bytes]) -> None:
        super().__init__(_Raw(file), _BUFFER)
