"""Surveys of real trees, read by as many processes as there are processors."""

import gc
import os
from collections import deque
from collections.abc import Callable

from fiat.core.model.host import Progress
from fiat.core.tree.assembly import Assembly
from fiat.core.tree.extent import Extent
from fiat.core.tree.survey import Survey
from fiat.engine.processes import Workers
from fiat.host.live.node import LiveNode
from fiat.host.live.rows import Numbering
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


def survey(top: LiveNode, extent: Extent, progress: Progress) -> Survey:
    """The tree at and under the object that ``top`` holds."""
    found = top.look(exact=True)
    assembly = Assembly(found)
    if found.posture.directory:
        gathering = _Gathering(assembly, top, TreeReader(top.reader, top.fd, found.path, extent), extent, progress)
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

    def __init__(
        self, assembly: Assembly, top: LiveNode, reader: TreeReader, extent: Extent, progress: Progress
    ) -> None:
        self.assembly = assembly
        self.reader = reader
        self.extent = extent
        self.progress = progress
        self.waiting: deque[tuple[list[int], list[Names]]] = deque([([0], [()])])
        self.numbering = Numbering(assembly, top.reader)

    def read(self) -> None:
        """Read everything: the beginning, and whatever others could not be started for, in this process alone."""
        workers = len(os.sched_getaffinity(0))
        if workers > 1:
            self._read_alone(_ALONE, _ALONE)
            self._read_with_others(workers)
        self._read_alone()

    def _read_alone(self, part: int = _PART, most: int | None = None) -> None:
        """Read what is left, or until there are ``most`` entries, in this process."""
        while self.waiting and (most is None or self.assembly.entries < most):
            entries, roots = self.waiting.popleft()
            self.take(_THIS, entries, self.reader.read(roots, part))
            self._stop_where_enough()

    def _stop_where_enough(self) -> None:
        """Leave the rest unread where as many entries as were asked for have been read."""
        if self.extent.most is not None and self.assembly.entries >= self.extent.most and self.waiting:
            self.assembly.complete, self.assembly.bounded = False, True
            self.waiting.clear()

    def _read_with_others(self, count: int) -> None:
        """Read the rest with ``count`` processes; each is given its next piece before what it has read is taken."""

        def begin() -> Callable[[list[Names]], Part]:
            reader = self.reader.fresh()
            return lambda roots: reader.read(roots, _PART)

        if not self.waiting:
            return
        given: dict[int, list[int]] = {}
        with Workers(count, begin) as workers:
            while workers.count and (self.waiting or workers.busy):
                self._give(workers, given)
                done = [(one.number, given.pop(one.number), one.value()) for one in workers.results()]
                self._give(workers, given)
                for one in done:
                    self.take(*one)
                self._stop_where_enough()

    def _give(self, workers: Workers[list[Names], Part], given: dict[int, list[int]]) -> None:
        while self.waiting and workers.idle:
            entries, roots = self.waiting.popleft()
            given[workers.give(roots)] = entries

    def take(self, reader: int, entries: list[int], part: Part) -> None:
        """Take what the reader of this number has read of the directories that are ``entries``."""
        batch = part.batch._replace(profile=self.numbering.numbers(reader, part.met)[part.batch.profile])
        first = self.assembly.add(batch, entries)
        self.assembly.troubles += part.troubles
        self.assembly.skipped += part.skipped
        unread = part.unread
        for share in range(min(_SHARE, len(unread))):
            some = unread[share::_SHARE]
            places = [entries[-1 - one.entry] if one.entry < 0 else first + one.entry for one in some]
            self.waiting.append((places, [one.names for one in some]))
        self.progress(self.assembly.entries, part.at)
