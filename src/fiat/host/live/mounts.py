"""The mounts of this host, from ``/proc/self/mountinfo`` (proc(5))."""

import re
import sys

from fiat.core.model.mount import Mount


def mounts_now() -> dict[int, Mount]:
    """The mounts that this process sees, by mount id."""
    # newline="\n": to the kernel nothing else ends a line
    with open(
        "/proc/self/mountinfo", encoding=sys.getfilesystemencoding(), errors="surrogateescape", newline="\n"
    ) as file:
        return read_mounts(file.read())


def read_mounts(text: str) -> dict[int, Mount]:
    """The mounts in the text of a mountinfo file, by mount id."""
    mounts = {}
    for line in text.split("\n"):
        fields = line.split(" ")
        try:
            end = fields.index("-", 6)
            mounts[int(fields[0])] = Mount(
                point=_unescaped(fields[4]),
                type=fields[end + 1],
                options=tuple(fields[5].split(",")),
                filesystem_options=tuple(fields[end + 3].split(",")),
            )
        except (ValueError, IndexError):
            continue  # a line of another shape says nothing we could use
    return mounts


def _unescaped(text: str) -> str:
    r"""Undo the ``\040`` by which mountinfo writes space, tab, newline and backslash."""
    return re.sub(r"\\([0-7]{3})", lambda match: chr(int(match[1], 8)), text)
