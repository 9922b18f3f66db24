"""Pieces of work whose results can be put together in whatever order they come: who does them is an engine's business.

:class:`Processes` are those of this machine; :class:`fiat.engine.cluster.Cluster` are workers anywhere.
"""

import os
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple, Protocol, TypeVar

from fiat.core.errors import WorkError
from fiat.engine.processes import Workers

Piece = TypeVar("Piece")
Result = TypeVar("Result")


class Engine(Protocol):
    """Whoever does pieces of work, each by itself: what does one is a function that a module has, for it may be sent
    elsewhere."""

    far: bool
    """Whether the pieces are done where this machine's files may not be."""

    @property
    def about(self) -> str:
        """What is to be known of who does the work; nothing where there is nothing."""

    @property
    def doing(self) -> str:
        """The word for what progress is shown of, with how many do it."""

    def each(
        self, work: Callable[[Piece], Result], pieces: Iterable[Piece]
    ) -> Iterator[tuple[int, Result | Exception]]:
        """What comes of each piece, by its place, as soon as it is there; or the error that it ended with.

        A piece whose worker dies is done again by another. Raises :class:`fiat.core.errors.EngineError` where nobody
        is left to do them.
        """


class Processes:
    """Processes of this machine, as many as there are processors."""

    far = False
    about = ""
    doing = "asked"

    def __init__(self, count: int | None = None) -> None:
        self._count = count or len(os.sched_getaffinity(0))

    def each(
        self, work: Callable[[Piece], Result], pieces: Iterable[Piece]
    ) -> Iterator[tuple[int, Result | Exception]]:
        """As :meth:`Engine.each` says; by this process alone where no other can be started."""
        coming = iter(enumerate(pieces))
        if self._count < 2:
            yield from self._alone(work, coming)
            return
        given: dict[int, tuple[int, Piece]] = {}
        again: list[tuple[int, Piece]] = []
        with Workers(self._count, lambda: work) as workers:
            while workers.count:
                while workers.idle:
                    piece = again.pop() if again else next(coming, None)
                    if piece is None:
                        break
                    given[workers.give(piece[1])] = piece
                if not workers.busy:
                    break
                for done in workers.results():
                    place, piece_itself = given.pop(done.number)
                    if isinstance(done.error, WorkError):
                        again.append((place, piece_itself))
                    else:
                        yield place, done.result if done.error is None else done.error  # type: ignore[misc]
        yield from self._alone(work, iter([*again, *coming]))

    def _alone(
        self, work: Callable[[Piece], Result], pieces: Iterator[tuple[int, Piece]]
    ) -> Iterator[tuple[int, Result | Exception]]:
        for place, piece in pieces:
            try:
                yield place, work(piece)
            except Exception as error:
                yield place, error


class InOrder(NamedTuple):
    """Who waits for results in the order of the pieces."""

    engine: Engine

    def each(self, work: Callable[[Piece], Result], pieces: Iterable[Piece]) -> Iterator[Result | Exception]:
        """What comes of each piece, in its turn; what comes early is held until then."""
        early: dict[int, Result | Exception] = {}
        wanted = 0
        for place, result in self.engine.each(work, pieces):
            early[place] = result
            while wanted in early:
                yield early.pop(wanted)
                wanted += 1
