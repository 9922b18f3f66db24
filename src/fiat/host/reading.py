"""Surveys of trees: of real ones, by as many processes as there are processors, and of those in memory."""

import ctypes
import gc
import os
import posixpath
import signal
import sys
from collections import deque
from collections.abc import Callable, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from multiprocessing import get_context

import numpy as np

from fiat.core.host import Progress
from fiat.core.posture import Object
from fiat.core.survey import Assembly, Batch, Survey, sort_of
from fiat.host.node import Mounts
from fiat.host.rows import Sorting
from fiat.host.treereader import Part, TreeReader

_ALONE = 6000
"""Entries read before other processes are started, which takes as long as reading so many."""

_PART = 8000
"""Entries that a process reads before it reports."""

_PR_SET_PDEATHSIG = 1  # prctl(2)

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
            self.take(os.getpid(), entries, self.reader.read(roots, _PART if workers == 1 else _ALONE))
        if self.waiting:
            self._read_together(workers)

    def _read_together(self, workers: int) -> None:
        sys.stdout.flush()  # or every process would print what is waiting to be printed
        sys.stderr.flush()
        with ProcessPoolExecutor(workers, get_context("fork"), _begin, (self.reader,)) as pool:
            running: dict[Future[tuple[int, Part]], list[int]] = {}
            try:
                while running or self.waiting:
                    while self.waiting and len(running) < 2 * workers:
                        entries, roots = self.waiting.popleft()
                        running[pool.submit(_read, roots)] = entries
                    done = wait(running, return_when=FIRST_COMPLETED).done
                    # a process numbers what it meets one after the other, so its reports count in this order
                    for future in sorted(done, key=lambda future: future.result()[1].met.first_row):
                        self.take(future.result()[0], running.pop(future), future.result()[1])
            except BaseException:
                pool.shutdown(wait=False, cancel_futures=True)
                raise

    def take(self, process: int, entries: list[int], part: Part) -> None:
        """Take what ``process`` has read of the directories that are ``entries``."""
        batch = part.batch._replace(sort=self.sorting.numbers(process, part.met)[part.batch.sort])
        first = self.assembly.add(batch, entries)
        self.assembly.troubles += part.troubles
        self.assembly.skipped += part.skipped
        unread = part.unread
        for share in range(min(_SHARE, len(unread))):
            some = unread[share::_SHARE]
            places = [entries[-1 - one.entry] if one.entry < 0 else first + one.entry for one in some]
            self.waiting.append((places, [one.names for one in some]))
        self.progress(self.assembly.entries, part.at)


_reader: TreeReader | None = None


def _begin(reader: TreeReader) -> None:
    """Make this process one that reads; who interrupts the first process interrupts that alone."""
    global _reader
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)  # or it would wait for work for ever
    _reader = reader.fresh()


def _read(roots: list[Names]) -> tuple[int, Part]:
    assert _reader is not None
    return os.getpid(), _reader.read(roots, _PART)


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
