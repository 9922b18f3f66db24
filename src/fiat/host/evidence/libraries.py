"""The libraries that a program loads before anything of its own runs: elf(5), ld.so(8).

Read from the file itself, so that nothing of it is run; what a program loads later (dlopen(3)) is not known.
"""

import os
import stat
import struct
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import cached_property
from typing import NamedTuple

from fiat.host.evidence.devices import library_folders

_LARGEST = 1 << 16
"""Bytes of the part that names libraries that are looked at: who made the program may have made it any length."""

_SEGMENTS, _NAMES, _FOLDERS, _PATH = 64, 200, 20, 4096
"""So many segments of a program, names, folders and bytes of a path are looked at."""

_HEADER = 64

_DYNAMIC, _LOAD = 2, 1  # PT_DYNAMIC, PT_LOAD
_NEEDED, _STRINGS, _RPATH, _RUNPATH = 1, 5, 15, 29  # DT_NEEDED, DT_STRTAB, DT_RPATH, DT_RUNPATH
_SEVERAL_ARCHITECTURES = ("x86_64-linux-gnu", "aarch64-linux-gnu", "riscv64-linux-gnu", "powerpc64le-linux-gnu")
_MOST = 500
"""Libraries of one program that are followed."""


class Needs(NamedTuple):
    """The names of the libraries that a file needs, and the folders that it names for them, in their order."""

    names: tuple[str, ...]
    folders: tuple[str, ...]


def needs_of(path: str) -> Needs | None:
    """What the program or library at ``path`` says of itself; None where it is neither, or cannot be read."""
    try:
        fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)
    except (OSError, ValueError):
        return None
    try:
        if not stat.S_ISREG(os.fstat(fd).st_mode):
            return None
        return _needs(lambda offset, count: os.pread(fd, count, offset), os.path.dirname(os.path.realpath(path)))
    except (OSError, struct.error, ValueError, OverflowError):
        return None
    finally:
        os.close(fd)


def _needs(read: Callable[[int, int], bytes], origin: str) -> Needs | None:
    start = read(0, _HEADER)
    if not start.startswith(b"\x7fELF") or len(start) < _HEADER:
        return None
    wide, order = start[4] == 2, "<" if start[5] == 1 else ">"
    (table,) = struct.unpack_from(f"{order}{'Q' if wide else 'I'}", start, 32 if wide else 28)
    size, count = struct.unpack_from(f"{order}HH", start, 54 if wide else 42)
    segments = read(table, size * min(count, _SEGMENTS))
    loads, dynamic = [], b""
    for at in range(0, len(segments), size or 1):
        if wide:
            kind, _, offset, address, _, length = struct.unpack_from(f"{order}IIQQQQ", segments, at)
        else:
            kind, offset, address, _, length = struct.unpack_from(f"{order}IIIII", segments, at)
        if kind == _LOAD:
            loads.append((address, offset, length))
        elif kind == _DYNAMIC:
            dynamic = read(offset, min(length, _LARGEST))
    entry = struct.Struct(f"{order}{'qQ' if wide else 'iI'}")
    found = list(entry.iter_unpack(dynamic[: len(dynamic) // entry.size * entry.size]))
    strings = next((value for tag, value in found if tag == _STRINGS), None)
    place = next((strings - a + o for a, o, length in loads if strings is not None and a <= strings < a + length), None)
    if place is None:
        return Needs((), ())

    def text(value: int) -> str:
        return os.fsdecode(read(place + value, _PATH).partition(b"\0")[0])

    names = tuple(text(value) for tag, value in found if tag == _NEEDED)[:_NAMES]
    # of both kinds of paths the second takes the first one's place (ld.so(8))
    runpath = [text(value) for tag, value in found if tag == _RUNPATH]
    paths = runpath or [text(value) for tag, value in found if tag == _RPATH]
    folders = [one for path in paths for one in path.split(":") if one][:_FOLDERS]
    return Needs(names, tuple(one.replace("${ORIGIN}", origin).replace("$ORIGIN", origin) for one in folders))


class Libraries:
    """Where libraries are found on this host."""

    def of(self, path: str) -> tuple[str, ...]:
        """The paths of all that a program loads, in turn; where its own folders come first, those in them that are
        not there as well, for whoever makes them is asked first."""
        found: dict[str, None] = {}
        pending = [path]
        while pending and len(found) < _MOST:
            needs = needs_of(pending.pop(0))
            for one in self._found(needs) if needs is not None else ():
                if one not in found:
                    found[one] = None
                    pending.append(one)
        return tuple(found)

    def _found(self, needs: Needs) -> Iterator[str]:
        for name in needs.names:
            if "/" in name:
                yield name
                continue
            for folder in needs.folders:
                yield f"{folder}/{name}"
                if os.path.isfile(f"{folder}/{name}"):
                    break
            else:
                there = next((f"{one}/{name}" for one in self._usual if os.path.isfile(f"{one}/{name}")), None)
                if there is not None:
                    yield there

    @cached_property
    def _usual(self) -> Sequence[str]:
        usual = library_folders()
        multiarch = []
        for one in ("/lib", "/usr/lib"):
            for name in _SEVERAL_ARCHITECTURES:
                with suppress(OSError):
                    multiarch += [f"{one}/{name}"] if os.path.isdir(f"{one}/{name}") else []
        return tuple(dict.fromkeys((*usual, *multiarch)))
