"""The names of a tree's entries, held as bytes one after the other."""

from typing import Any

import numpy as np
from numpy.typing import NDArray


class Names:
    """For each entry where its name starts in ``data``, and how many bytes it has."""

    def __init__(self, data: bytes, starts: NDArray[Any], lengths: NDArray[Any]) -> None:
        self._data = data
        self._starts = starts
        self._lengths = lengths
        self._text: str | None = None

    def one(self, place: int) -> str:
        """The name of one entry."""
        start = int(self._starts[place])
        return self._data[start : start + int(self._lengths[place])].decode("utf-8", "surrogateescape")

    def many(self, places: NDArray[Any]) -> list[str]:
        """The names of the entries at these places, in their order."""
        starts = self._starts[places].astype(np.int64)
        bounds = zip(starts.tolist(), (starts + self._lengths[places]).tolist(), strict=True)
        if self._text is None:
            self._text = self._data.decode("ascii") if self._data.isascii() else ""
        text, data = self._text, self._data
        if text:
            return [text[start:end] for start, end in bounds]
        return [data[start:end].decode("utf-8", "surrogateescape") for start, end in bounds]

    def held(self) -> tuple[bytes, NDArray[Any], NDArray[Any]]:
        """The bytes of all of them, where each name starts and how many it has."""
        return self._data, self._starts, self._lengths

    def joined(self, places: NDArray[Any]) -> tuple[bytes, NDArray[np.uint16]]:
        """The bytes of many one after the other, and how many each has."""
        lengths = self._lengths[places].astype(np.uint16)
        if len(places) == len(self._starts) and bool((places == np.arange(len(places))).all()):
            return self._data[: int(lengths.sum())], lengths
        starts = self._starts[places].tolist()
        data = self._data
        return b"".join([data[start : start + n] for start, n in zip(starts, lengths.tolist(), strict=True)]), lengths

    def first_bytes(self, places: NDArray[Any], count: int) -> NDArray[np.uint8]:
        """The first bytes of many, a row for each; what is shorter is filled up with 0."""
        if not self._data.endswith(bytes(count)):
            self._data += bytes(count)
        windows = np.lib.stride_tricks.sliding_window_view(np.frombuffer(self._data, np.uint8), count)
        rows: NDArray[np.uint8] = windows[self._starts[places].astype(np.int64)]
        rows[np.arange(count) >= self._lengths[places][:, None]] = 0
        return rows
