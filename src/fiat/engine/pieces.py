"""Pieces of work whose results can be put together in whatever order they come: who does them is an engine's business.

:class:`Processes` are those of this machine; :class:`fiat.engine.cluster.Cluster` are workers anywhere.
"""

import gc
import os
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator
from itertools import count
from typing import TypeVar

from fiat.core.errors import WorkError
from fiat.engine.processes import Workers

Piece = TypeVar("Piece")
Result = TypeVar("Result")


class Engine(ABC):
    """Whoever does pieces of work, each by itself: what does one is a function that a module has, for it may be sent
    elsewhere."""

    far: bool
    """Whether the pieces are done where this machine's files may not be."""

    @property
    def about(self) -> str:
        """What is to be known of who does the work; nothing where there is nothing."""
        return ""

    @property
    def doing(self) -> str:
        """The word for what progress is shown of, with how many do it."""
        return "asked"

    def each(
        self, work: Callable[[Piece], Result], pieces: Iterable[Piece]
    ) -> Iterator[tuple[int, Result | Exception]]:
        """What comes of each piece, by its place, as soon as it is there; or the error that it ended with.

        A piece whose worker dies is done again by another. Raises :class:`fiat.core.errors.EngineError` where nobody
        is left to do them.
        """
        coming = iter(pieces)
        return self.each_given(work, lambda: next(coming, None))

    @abstractmethod
    def each_given(
        self, work: Callable[[Piece], Result], give: Callable[[], Piece | None]
    ) -> Iterator[tuple[int, Result | Exception]]:
        """The same for pieces that come of others: ``give`` gives the next one, or None where there is none now."""


class Processes(Engine):
    """Processes of this machine, as many as there are processors; this one alone where no other can be started."""

    far = False

    def __init__(self, processes: int | None = None) -> None:
        self._count = processes or len(os.sched_getaffinity(0))

    def each_given(
        self, work: Callable[[Piece], Result], give: Callable[[], Piece | None]
    ) -> Iterator[tuple[int, Result | Exception]]:
        """As :meth:`Engine.each_given` says."""
        given: dict[int, tuple[int, Piece]] = {}
        again: list[tuple[int, Piece]] = []
        numbers = count()

        def following() -> tuple[int, Piece] | None:
            if again:
                return again.pop()
            piece = give()
            return None if piece is None else (next(numbers), piece)

        def begin() -> Callable[[Piece], Result]:
            gc.enable()  # a command has none collected, for it ends soon; these go on from piece to piece
            return work

        with Workers(self._count if self._count > 1 else 0, begin) as workers:
            while workers.count:
                while workers.idle and (found := following()) is not None:
                    given[workers.give(found[1])] = found
                if not workers.busy:
                    break
                for done in workers.results():
                    place, piece = given.pop(done.number)
                    if isinstance(done.error, WorkError):
                        again.append((place, piece))
                    else:
                        yield place, done.result if done.error is None else done.error  # type: ignore[misc]
        while (found := following()) is not None:
            try:
                result: Result | Exception = work(found[1])
            except Exception as error:
                result = error
            yield found[0], result
