"""Surveys of trees: of real ones, by as many processes as there are processors, and of those in memory."""

import gc
import os
import posixpath
from collections import deque
from collections.abc import Callable, Mapping

import numpy as np

from fiat.core.model.host import Progress
from fiat.core.model.posture import Object
from fiat.core.tree.survey import Assembly, Batch, Survey, sort_of
from fiat.engine.processes import Workers
from fiat.host.live.node import Mounts
from fiat.host.live.profiles import Sorting
from fiat.host.live.treereader import Part, TreeReader

_ALONE = 1000
"""Entries read before other processes are started, which takes as long as reading so many."""

_PART = 12_000
"""Entries that a process reads before it reports."""

_THIS = -1
"""The number of the reader in this process."""

_SHARE = 4
"""How many parts the directories that one report leaves unread are made into."""

Names = tuple[bytes, ...]


def survey(mounts: Mounts, top: int, found: Object, *, across_mounts: bool, progress: Progress) -> Survey:
    """The tree under the directory that the handle ``top`` holds, and that was ``found`` to be so."""
    assembly = Assembly(found)
    if found.posture.directory:
        reader = TreeReader(mounts, top, found.path, across_mounts=across_mounts)
        gathering = _Gathering(assembly, mounts, reader, progress)
        collecting = gc.isenabled()
        gc.disable()  # nothing here is circular, and looking for what is takes a third of the time
        try:
            gathering.read()
        except KeyboardInterrupt:
            assembly.complete = False
        finally:
            if collecting:
                gc.enable()
    return assembly.survey()


class _Gathering:
    """Directories waiting to be read, and what was read on its way into the assembly."""

    def __init__(self, assembly: Assembly, mounts: Mounts, reader: TreeReader, progress: Progress) -> None:
        self.assembly = assembly
        self.reader = reader
        self.progress = progress
        self.waiting: deque[tuple[list[int], list[Names]]] = deque([([0], [()])])
        self.sorting = Sorting(assembly, mounts)

    def read(self) -> None:
        """Read everything, first in this process alone."""
        workers = len(os.sched_getaffinity(0))
        while self.waiting and (workers == 1 or self.assembly.entries < _ALONE):
            entries, roots = self.waiting.popleft()
            self.take(_THIS, entries, self.reader.read(roots, _PART if workers == 1 else _ALONE))
        if self.waiting:
            self._read_together(workers)

    def _read_together(self, count: int) -> None:
        """Read the rest with ``count`` processes; each is given its next piece before what it has read is taken."""

        def begin() -> Callable[[list[Names]], Part]:
            reader = self.reader.fresh()
            return lambda roots: reader.read(roots, _PART)

        given: dict[int, list[int]] = {}
        with Workers(count, begin) as workers:
            while self.waiting or workers.busy:
                self._give(workers, given)
                done = [(number, given.pop(number), part) for number, part in workers.results()]
                self._give(workers, given)
                for one in done:
                    self.take(*one)

    def _give(self, workers: Workers[list[Names], Part], given: dict[int, list[int]]) -> None:
        while self.waiting and workers.idle:
            entries, roots = self.waiting.popleft()
            given[workers.give(roots)] = entries

    def take(self, reader: int, entries: list[int], part: Part) -> None:
        """Take what the reader of this number has read of the directories that are ``entries``."""
        batch = part.batch._replace(sort=self.sorting.numbers(reader, part.met)[part.batch.sort])
        first = self.assembly.add(batch, entries)
        self.assembly.troubles += part.troubles
        self.assembly.skipped += part.skipped
        unread = part.unread
        for share in range(min(_SHARE, len(unread))):
            some = unread[share::_SHARE]
            places = [entries[-1 - one.entry] if one.entry < 0 else first + one.entry for one in some]
            self.waiting.append((places, [one.names for one in some]))
        self.progress(self.assembly.entries, part.at)


def survey_of_objects(
    top: Object, objects: Mapping[str, Object], names_in: Callable[[str], list[str]], across_mounts: bool
) -> Survey:
    """The tree under ``top`` among objects held in memory."""
    assembly = Assembly(top)
    waiting = [(0, top)] if top.posture.directory else []
    while waiting:
        entry, directory = waiting.pop()
        found = [
            objects[posixpath.join(directory.path, name)] for name in sorted(names_in(directory.path), key=os.fsencode)
        ]
        names = [os.fsencode(one.path.rpartition("/")[2]) for one in found]
        first = assembly.add(
            Batch(
                sort=np.array([assembly.number(sort_of(one)) for one in found], np.int32),
                inode=np.array([one.status.inode[1] for one in found], np.uint64),
                links=np.array([one.status.links for one in found], np.uint32),
                birth=np.array([one.status.birth for one in found], np.int64),
                name_lengths=np.array([len(name) for name in names], np.uint16),
                names=b"".join(names),
                directories=np.array([-1], np.int32),
                counts=np.array([len(found)], np.int32),
            ),
            [entry],
        )
        for place, one in enumerate(found, first):
            if one.posture.directory:
                if across_mounts or one.mount == top.mount:
                    waiting.append((place, one))
                else:
                    assembly.skipped.append(one.path)
    return assembly.survey()
