"""Trees read by ``fiat._native``: in the same columns and rows as :mod:`fiat.host.live.treereader` makes.

It reads where all is alike, and hands back each directory in which something is not: what is mounted there, a
subvolume, a name that is in use by another path. These are read by that reader, one by one.
"""

import os
from _thread import allocate_lock
from collections.abc import Sequence
from types import ModuleType
from typing import Any, NamedTuple

import numpy as np

from fiat.core.model.host import Progress
from fiat.core.model.posture import Program
from fiat.core.tree.assembly import Batch
from fiat.core.tree.walk import Extent, Trouble
from fiat.host.live.facts import TOLD_FLAGS
from fiat.host.live.kernel import Kernel
from fiat.host.live.postures import EMPTY, TOO_SHORT, program_in
from fiat.host.live.rows import Directory, NewValues, ReadPart, Where

_NO_LIMIT = 2**64 - 1
_PIECE = 4_096
"""Names of a large directory that a thread reads in one go."""

_SHARED = 12_000
"""With more names in it, a directory is read in pieces."""

_PATIENCE = 0.1
"""Seconds until progress is shown, and an interrupt seen."""


class Alike(NamedTuple):
    """On which mounts and devices everything is told by statx(2) and listxattr(2), with the names of their file
    systems; by mount whether lists are kept; and the paths from the top of the directories there in which a name is in
    use by another path."""

    filesystems: dict[Where, str]
    lists_kept: dict[int, bool | None]
    busy: list[bytes]


class CompiledPart(NamedTuple):
    """What was read; the directories that are to be looked at thoroughly; whether anything was left unread."""

    part: ReadPart
    thorough: list[Directory]
    left: bool


class Programs:
    """Gives executable files the number of what execve(2) sees of them, over the whole of a tree."""

    def __init__(self, kernel: Kernel) -> None:
        self._handlers = kernel.handlers
        self._known: dict[Program | int, int] = {}
        self._numbering = allocate_lock()

    @property
    def by_name(self) -> bool:
        """Whether the name of a file counts as well."""
        return bool(self._handlers)

    @property
    def met(self) -> list[Program | int | None]:
        """All of them, by their numbers less one."""
        return list(self._known)

    def __call__(self, fd: int, start: bytes | int, name: bytes) -> int:
        """The number of the file that begins with ``start``, or could not be read for that errno."""
        found = self._found(fd, start, name)
        with self._numbering:  # several threads ask
            return self._known.setdefault(found, len(self._known) + 1)

    def _found(self, fd: int, start: bytes | int, name: bytes) -> Program | int:
        if isinstance(start, int):
            return start
        if fd < 0:
            return TOO_SHORT if start else EMPTY
        try:
            return program_in(fd, start, self._handlers, os.fsdecode(name))
        except OSError as error:
            return error.errno or 0


class CompiledReader:
    """Reads what is under ``top``, a handle of the directory at ``path``."""

    def __init__(self, native: ModuleType, kernel: Kernel, top: int, path: str, extent: Extent, most_open: int) -> None:
        self._native = native
        self._programs = Programs(kernel)
        self._top = top
        self._path = path
        self._extent = extent
        self._most_open = most_open

    def read(
        self, roots: Sequence[Directory], alike: Alike, so_far: int, progress: Progress
    ) -> tuple[CompiledPart, BaseException | None]:
        """What is in the directories ``roots`` and under them; and what interrupted that, where something did.

        ``so_far`` entries have been read before.
        """
        limit = self._extent.entry_limit
        reading = self._native.Reading(
            top=self._top,
            roots=[(b"/".join(root.names), root.where) for root in roots],
            wheres=list(alike.filesystems),
            busy=alike.busy,
            program=self._programs,
            threads=len(os.sched_getaffinity(0)),
            most_open=self._most_open,
            told_flags=TOLD_FLAGS,
            entry_limit=_NO_LIMIT if limit is None else max(limit - so_far, 0),
            piece=_PIECE,
            shared=_SHARED,
            descends=not self._extent.one_level,
            details=self._extent.details,
            by_name=self._programs.by_name,
        )
        interrupted: BaseException | None = None
        try:
            while not reading.wait(_PATIENCE):
                entries, at = reading.so_far()
                progress(so_far + entries, self._path_of(at) or "/")
        except BaseException as error:
            reading.stop()
            interrupted = error
        return self._part(reading.result(), reading.so_far()[1], alike), interrupted

    def _part(self, result: tuple[Any, ...], at: bytes, alike: Alike) -> CompiledPart:
        *columns, names, directories, counts, targets, rows, said, unread, troubles, left = result
        profile, inode, links, birth, lengths, size, changed, modified = columns
        details = self._extent.details
        batch = Batch(
            profile=np.frombuffer(profile, np.int32),
            inode=np.frombuffer(inode, np.uint64),
            links=np.frombuffer(links, np.uint32),
            birth=np.frombuffer(birth, np.int64),
            name_lengths=np.frombuffer(lengths, np.uint16),
            names=names,
            directories=np.frombuffer(directories, np.int32),
            counts=np.frombuffer(counts, np.int32),
            size=np.frombuffer(size, np.int64) if details else None,
            changed=np.frombuffer(changed, np.int64) if details else None,
            modified=np.frombuffer(modified, np.int64) if details else None,
            targets=tuple(targets),
        )
        new = np.frombuffer(rows, np.uint64).reshape(-1, 4)
        met = NewValues(0, new, said, self._programs.met, [], alike.lists_kept, alike.filesystems)
        found: tuple[list[Directory], list[Directory]] = ([], [])
        for entry, path, mount, device, anywhere, thorough in unread:
            here = tuple(path.split(b"/")) if path else ()
            found[thorough].append(Directory(entry, here, None if anywhere else (mount, device)))
        paths = [Trouble(self._path_of(path) or "/", errno) for path, errno in troubles]
        return CompiledPart(ReadPart(batch, met, found[0], [], paths, [], self._path_of(at) or "/"), found[1], left)

    def _path_of(self, below: bytes) -> str:
        return f"{self._path}/{os.fsdecode(below)}" if below else self._path
