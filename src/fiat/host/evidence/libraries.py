"""The libraries that a program loads before anything of its own runs: elf(5), ld.so(8).

Read from the file itself, so that nothing of it is run; what a program loads later (dlopen(3)) is not known.
"""

import os
import struct
from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import cached_property
from typing import NamedTuple

from fiat.host.evidence.devices import library_folders
from fiat.host.textfile import beginning_of

_LARGEST = 64 << 20
"""Bytes of a program that are looked at."""

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
        held = beginning_of(path, _LARGEST)
        return _needs(held, os.path.dirname(os.path.realpath(path))) if held.startswith(b"\x7fELF") else None
    except (OSError, struct.error, IndexError, ValueError):
        return None


def _needs(held: bytes, origin: str) -> Needs:
    wide, order = held[4] == 2, "<" if held[5] == 1 else ">"
    start, size, count = struct.unpack_from(f"{order}{'Q' if wide else 'I'}", held, 32 if wide else 28)[0], 0, 0
    size, count = struct.unpack_from(f"{order}HH", held, 54 if wide else 42)
    loads, dynamic = [], None
    for number in range(count):
        at = start + number * size
        if wide:
            kind, _, offset, address, _, length = struct.unpack_from(f"{order}IIQQQQ", held, at)
        else:
            kind, offset, address, _, length = struct.unpack_from(f"{order}IIIII", held, at)
        if kind == _LOAD:
            loads.append((address, offset, length))
        elif kind == _DYNAMIC:
            dynamic = offset, length
    if dynamic is None:
        return Needs((), ())
    entry = struct.Struct(f"{order}{'qQ' if wide else 'iI'}")
    found = [entry.unpack_from(held, dynamic[0] + at) for at in range(0, dynamic[1], entry.size)]
    table = next((value for tag, value in found if tag == _STRINGS), None)
    at = next(
        (table - a + offset for a, offset, length in loads if table is not None and a <= table < a + length), None
    )
    if at is None:
        return Needs((), ())

    def text(value: int) -> str:
        return os.fsdecode(held[at + value : held.index(b"\0", at + value)])

    names = tuple(text(value) for tag, value in found if tag == _NEEDED)
    # of both kinds of paths the second takes the first one's place (ld.so(8))
    paths = [text(value) for tag, value in found if tag == _RUNPATH] or [
        text(value) for tag, value in found if tag == _RPATH
    ]
    folders = (one for path in paths for one in path.split(":") if one)
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
