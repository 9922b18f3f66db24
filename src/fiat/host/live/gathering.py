"""Surveys of real trees, read by as many processes as there are processors."""

import gc
import os
from collections import deque
from collections.abc import Callable
from types import ModuleType
from typing import TYPE_CHECKING, NamedTuple

from fiat.core.model.host import Progress
from fiat.core.tree.assembly import Assembly, Batch, in_one
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent
from fiat.engine.compiled import compiled
from fiat.engine.processes import Workers
from fiat.host.live.node import LiveNode
from fiat.host.live.rows import Directory, Numbering, ReadPart, SplitDirectory, Where
from fiat.host.live.treereader import TreeReader

if TYPE_CHECKING:
    from fiat.engine.pieces import Engine

_ALONE = 1000
"""Entries read before other processes are started, which takes as long as reading so many."""

_PART = 12_000
"""Entries that a process reads before it reports."""

_PART_ELSEWHERE = 60_000
"""The same, of one somewhere else, to whom it takes longer to say what to read."""

_THIS = -1
"""The number of the reader in this process."""

_SHARE = 4
"""How many parts the directories that one report leaves unread are made into."""

Names = tuple[bytes, ...]

_Asked = tuple[list[Names], bytes | None]
"""What a reader is told of a piece."""


class Piece(NamedTuple):
    """Directories to be read: their entries, and their names from the top; or some names ``inside`` a large one.

    Of these it is the piece of this ``number``. ``wheres`` they were found, where that is known; ``thorough`` tells
    that there is something in the only one of them that takes a closer look.
    """

    entries: list[int]
    roots: list[Names]
    inside: bytes | None = None
    number: int = 0
    wheres: list[Where | None] | None = None
    thorough: bool = False


_DONE = Piece([], [])


def survey(top: LiveNode, extent: Extent, progress: Progress) -> Survey:
    """The tree at and under the object that ``top`` holds."""
    found = top.look(exact=True)
    assembly = Assembly(found)
    if found.posture.directory:
        gathering = _Gathering(assembly, top, TreeReader(top.reader, top.fd, found.path, extent), extent, progress)
        collecting = gc.isenabled()
        gc.disable()  # nothing here is circular, and looking for what is takes a third of the time
        engine = top.reader.engine
        try:
            native = compiled()
            if engine is None or extent.one_level or extent.across_mounts:
                gathering.read() if native is None else gathering.read_compiled(native, top)
            else:
                gathering.read_elsewhere(engine, top)
        except KeyboardInterrupt:
            assembly.complete = False
        finally:
            if collecting:
                gc.enable()
        gathering.take_what_there_is()
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
        self.waiting: deque[Piece] = deque([Piece([0], [()])])
        self.read_so_far = assembly.entries  # those of pieces that wait for others included
        self.pieces: dict[int, list[tuple[Batch, list[Directory]] | None]] = {}  # of directories that are shared
        self.numbering = Numbering(assembly, top.reader)

    def read(self) -> None:
        """Read everything: the beginning, and whatever others could not be started for, in this process alone."""
        workers = len(os.sched_getaffinity(0))
        if workers > 1:
            self._read_alone(_ALONE, _ALONE)
            self._read_with_others(workers)
        self._read_alone()

    def read_elsewhere(self, engine: "Callable[[], Engine]", top: LiveNode) -> None:
        """Read everything with an engine, but for what is read by the time that it takes to reach it.

        A part that one worker has not done comes from another. Raises :class:`fiat.core.errors.EngineError`.
        """
        from fiat.host.live.readelsewhere import ANYWHERE, TreePiece, moved, read_piece, standing
        from fiat.host.live.sighting import sight

        self._read_alone(_ALONE, _ALONE)
        if not self.waiting:
            return
        kernel, path = top.reader.kernel, self.assembly.top.path
        here, sighting = standing(top.reader, top.fd), sight(kernel, top.fd, path)
        mounts = {mount.point: mount for mount in kernel.mounts_known()}
        given: dict[int, Piece] = {}

        def next_piece() -> TreePiece | None:
            if not self.waiting:
                return None
            piece = given[len(given)] = self.waiting.popleft()
            return TreePiece(sighting, self.extent, tuple(piece.roots), _PART_ELSEWHERE, piece.inside)

        for place, part in engine().each_given(read_piece, next_piece):
            if isinstance(part, Exception):
                raise part
            piece, given[place] = given[place], _DONE
            self.take(place, piece, moved(part, ANYWHERE, here, lambda mount: mounts.get(mount.point, mount)))
            self.numbering.forget(place)
            self._stop_where_enough()

    def read_compiled(self, native: ModuleType, top: LiveNode) -> None:
        """Read everything by the compiled reader, but for the directories that it hands back."""
        self.reader.vet(top.fd)
        compiled = self.reader.compiled(native)
        run = _THIS
        while self.waiting:
            thorough = [piece for piece in self.waiting if piece.thorough or piece.inside is not None]
            alike = [piece for piece in self.waiting if not piece.thorough and piece.inside is None]
            self.waiting.clear()
            for piece in thorough:
                self.take(_THIS, piece, self.reader.read(piece.roots, 1, piece.inside, piece.wheres))
            self._stop_where_enough()
            if not alike:
                continue
            run -= 1
            roots = [
                Directory(-1, names, where)
                for piece in alike
                for names, where in zip(piece.roots, piece.wheres or [None] * len(piece.roots), strict=True)
            ]
            whole = Piece([entry for piece in alike for entry in piece.entries], [root.names for root in roots])
            try:
                found, interrupted = compiled.read(roots, self.reader.alike(), self.read_so_far, self.progress)
            except OSError:  # not one thread could be started
                self.waiting.extendleft(reversed(alike))
                self.read()
                return
            first = self.take(run, whole, found.part)
            self.numbering.forget(run)
            for one in found.thorough:
                place = _place(one, whole.entries, first)
                self.waiting.append(Piece([place], [one.names], wheres=[one.where], thorough=True))
            if interrupted is not None:
                raise interrupted
            if found.left and not self.waiting:
                self.waiting.append(_DONE)  # of a large directory a part was left
            self._stop_where_enough()

    def _read_alone(self, part: int = _PART, most: int | None = None) -> None:
        """Read what is left, or until there are ``most`` entries, in this process."""
        while self.waiting and (most is None or self.read_so_far < most):
            piece = self.waiting.popleft()
            self.take(_THIS, piece, self.reader.read(piece.roots, part, piece.inside))
            self._stop_where_enough()

    def _stop_where_enough(self) -> None:
        """Leave the rest unread where as many entries as were asked for have been read."""
        if self.extent.entry_limit is not None and self.assembly.entries >= self.extent.entry_limit and self.waiting:
            self.assembly.complete, self.assembly.bounded = False, True
            self.waiting.clear()

    def _read_with_others(self, count: int) -> None:
        """Read the rest with ``count`` processes; each is given its next piece before what it has read is taken."""

        def begin() -> Callable[[_Asked], ReadPart]:
            reader = self.reader.fresh()
            return lambda asked: reader.read(asked[0], _PART, asked[1])

        if not self.waiting:
            return
        given: dict[int, Piece] = {}
        with Workers(count, begin) as workers:
            while workers.count and (self.waiting or workers.busy):
                self._give(workers, given)
                done = [(one.number, given.pop(one.number), one.value()) for one in workers.results()]
                self._give(workers, given)
                for one in done:
                    self.take(*one)
                self._stop_where_enough()

    def _give(self, workers: Workers[_Asked, ReadPart], given: dict[int, Piece]) -> None:
        while self.waiting and workers.idle:
            piece = self.waiting.popleft()
            given[workers.give((piece.roots, piece.inside))] = piece

    def take(self, reader: int, piece: Piece, part: ReadPart) -> int:
        """Take what the reader of this number has read of a piece; the number of the first entry."""
        first = self.assembly.entries
        batch = part.batch._replace(profile=self.numbering.numbers(reader, part.met)[part.batch.profile])
        self.read_so_far += len(batch.profile)
        self.assembly.troubles += part.troubles
        self.assembly.skipped += part.skipped
        if piece.inside is None:
            first = self.assembly.add(batch, piece.entries)
            self._leave(part.unread, piece.entries, first)
            for shared in part.shared:
                self._share(_place(shared.directory, piece.entries, first), shared)
        else:
            (directory,) = piece.entries
            pieces = self.pieces[directory]
            pieces[piece.number] = batch, part.unread
            if None not in pieces:
                self._take_whole(directory)
        self.progress(self.read_so_far, part.at)
        return first

    def _leave(self, unread: list[Directory], entries: list[int], first: int) -> None:
        """Have directories read later that were found in a batch whose first entry is ``first``."""
        for share in range(min(_SHARE, len(unread))):
            some = unread[share::_SHARE]
            places = [_place(one, entries, first) for one in some]
            wheres = [one.where for one in some]
            self.waiting.append(Piece(places, [one.names for one in some], wheres=wheres))

    def _share(self, place: int, shared: SplitDirectory) -> None:
        """Have a large directory read in pieces, which are put together when all of them are there."""
        names, size = shared.names, len(shared.names) * _PART // shared.entries
        begin, number = 0, 0
        while begin < len(names):
            end = names.find(b"/", begin + size)
            end = len(names) if end < 0 else end
            self.waiting.append(Piece([place], [shared.directory.names], names[begin:end], number))
            begin, number = end + 1, number + 1
        self.pieces[place] = [None] * number

    def _take_whole(self, directory: int) -> None:
        """Take the pieces of a large directory."""
        pieces = [piece for piece in self.pieces.pop(directory) if piece is not None]
        if not pieces:
            return
        first = self.assembly.add(in_one([batch for batch, _ in pieces]), [directory])
        for batch, unread in pieces:
            self._leave(unread, [directory], first)
            first += len(batch.profile)

    def take_what_there_is(self) -> None:
        """Take the pieces of large directories that are there, where reading was ended early."""
        for directory in list(self.pieces):
            self._take_whole(directory)


def _place(directory: Directory, entries: list[int], first: int) -> int:
    """The entry of a directory: one of a batch whose first entry is ``first``, or of those that it began with."""
    return entries[-1 - directory.entry] if directory.entry < 0 else first + directory.entry
