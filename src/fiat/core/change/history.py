"""What was changed, kept so that it can be put back."""

from collections.abc import Iterable, Iterator, Sequence
from enum import Enum
from typing import NamedTuple, Protocol

from fiat.core.ask.keptshifts import KeptShift
from fiat.core.model.identity import Identity
from fiat.core.model.posture import Posture


class State(Enum):
    """What has become of a run."""

    RUNNING = "running"
    DONE = "done"
    PARTIAL = "partial"
    UNDONE = "undone"


class Fate(Enum):
    """What has become of one object in a run.

    In a run that has ended, what was PLANNED has changed: where all goes well,
    nothing has to be written down for each object.
    """

    PLANNED = 0
    CHANGED = 1
    FAILED = 2
    ALREADY = 3
    LEFT = 4


class Entry(NamedTuple):
    """One object that a run was to change.

    ``place`` counts the objects of the run in the order of the changes.
    ``between`` are the postures it may have been left with, had the run been
    killed in the middle.
    """

    place: int
    path: str
    identity: Identity
    before: Posture
    after: Posture
    between: tuple[Posture, ...] = ()
    fate: Fate = Fate.PLANNED


class Run(NamedTuple):
    """One command that changed something.

    ``started`` and ``ended`` are seconds since the epoch, ``ended`` None where
    it was killed. ``uid`` and ``user`` are who ran it,
    ``command`` its words, ``folder`` where. ``paths`` is how many objects it
    was to change, ``changed`` how many it did. ``undoes`` is the number of
    the run that it put back, ``undone_by`` that of the one that put it back.
    """

    number: int
    started: float
    ended: float | None
    uid: int
    user: str | None
    command: tuple[str, ...]
    folder: str
    state: State
    paths: int
    changed: int
    undoes: int | None = None
    undone_by: int | None = None
    gains: tuple[KeptShift, ...] = ()
    losses: tuple[KeptShift, ...] = ()


class Beginning(NamedTuple):
    """What is known of a run before it changes anything."""

    user: str | None
    command: tuple[str, ...]
    undoes: int | None = None
    gains: tuple[KeptShift, ...] = ()
    losses: tuple[KeptShift, ...] = ()


class History(Protocol):
    """Where runs are kept. Every method raises :class:`HistoryError` when that is not possible."""

    @property
    def place(self) -> str:
        """The path of the file it is kept in."""

    def begin(self, beginning: Beginning, entries: Iterable[Entry]) -> int:
        """Write down what is about to change; the number of the run. On return it is safe on disk."""

    def finish(self, number: int, fates: Sequence[tuple[int, Fate]], *, changed: int, complete: bool) -> None:
        """Write down what has become of the run, and of the places that were not simply changed."""

    def runs(self) -> list[Run]:
        """All runs, the latest first."""

    def run(self, number: int) -> Run:
        """The run of this number; :class:`HistoryError` where there is none."""

    def entries(self, number: int, *, backwards: bool = False) -> Iterator[Entry]:
        """What a run was to change, in the order of the changes or from the last to the first."""
