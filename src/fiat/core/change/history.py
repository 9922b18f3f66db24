"""What was changed, kept so that it can be put back."""

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from enum import Enum
from typing import NamedTuple, Protocol

from fiat.core.ask.effects import KeptShift
from fiat.core.change.steps import Change
from fiat.core.model.posture import Identity, Posture


class RunState(Enum):
    """What has become of a run."""

    RUNNING = "running"
    DONE = "done"
    PARTIAL = "partial"
    UNDONE = "undone"


class ObjectFate(Enum):
    """What has become of one object in a run.

    In a run that has ended, what was PLANNED has changed: where all goes well,
    nothing has to be written down for each object. What FAILED, was ALREADY so or was
    LEFT untried is as it was; what went ASTRAY is neither as before nor as planned, or
    could not be looked at.
    """

    PLANNED = 0
    CHANGED = 1
    FAILED = 2
    ALREADY = 3
    LEFT = 4
    ASTRAY = 5

    __hash__ = object.__hash__  # there is one object for each


class RunEntry(NamedTuple):
    """One object that a run was to change.

    ``between`` are the postures it may have been left with, had the run been
    killed in the middle. ``found`` is what an object that went astray was read back as. ``digest`` is that
    of the contents of a file that was privileged before, as in :class:`fiat.core.change.privilege.Digests`.
    """

    path: str
    identity: Identity
    before: Posture
    after: Posture
    between: tuple[Posture, ...] = ()
    fate: ObjectFate = ObjectFate.PLANNED
    found: Posture | None = None
    digest: str = ""


class Intended(NamedTuple):
    """The objects that a run is about to change, column by column.

    For each there is a number: that of its change among all the ``changes``. ``digests`` are as in :class:`RunEntry`,
    by the place of the object.
    """

    paths: Sequence[str]
    identities: Sequence[Identity]
    changes: Sequence[Change]
    numbers: Sequence[int]
    digests: Mapping[int, str] = {}


class SettledObjects(NamedTuple):
    """What has become of the objects from ``first`` to ``last``, which were not simply changed."""

    first: int
    last: int
    fate: ObjectFate
    found: Posture | None = None


class Claim(NamedTuple):
    """What a run may change: the object ``top`` with all below it. ``above`` are the directories on its way."""

    top: Identity
    above: tuple[Identity, ...] = ()


class Damage(NamedTuple):
    """A run that cannot be read, or is not as it was written: its number (None for the whole file), and why."""

    number: int | None
    text: str


class Actor(NamedTuple):
    """Who is behind a process: the number and the name of an account, as far as they are known.

    ``said_by`` is the variable of the environment that says so, such as ``SUDO_USER``, which whoever started the
    process can set to anything; it is empty where the kernel has it, which keeps the number of the login.
    """

    uid: int | None
    name: str | None
    said_by: str = ""

    def is_same(self, other: "Actor") -> bool:
        """Whether both are one: by name where both have one, for two accounts may have one number."""
        if self.name is not None and other.name is not None:
            return self.name == other.name
        return self.uid is not None and self.uid == other.uid


class Run(NamedTuple):
    """One command that changed something.

    ``started`` and ``ended`` are seconds since the epoch, ``ended`` None where
    it was killed. ``uid`` and ``user`` are who ran it,
    ``behind`` who had logged in, where that is known;
    ``command`` its words, ``folder`` where. ``paths`` is how many objects it
    was to change, ``changed`` how many it did. ``undoes`` is the number of
    the run that it put back, ``undoes_also`` are those of earlier ones that it put
    back as well, ``undoes_in_part`` those of which it put back a part; ``undone_by`` is that of the one that put
    it back, ``undone_in_part_by`` are those that put back a part of it, the latest first.
    """

    number: int
    started: float
    ended: float | None
    uid: int
    user: str | None
    command: tuple[str, ...]
    folder: str
    state: RunState
    paths: int
    changed: int
    undoes: int | None = None
    undone_by: int | None = None
    gains: tuple[KeptShift, ...] = ()
    losses: tuple[KeptShift, ...] = ()
    undoes_also: tuple[int, ...] = ()
    behind: Actor | None = None
    undoes_in_part: tuple[int, ...] = ()
    undone_in_part_by: tuple[int, ...] = ()

    @property
    def all_undone(self) -> tuple[int, ...]:
        """Every run that it put back whole, the latest first."""
        return () if self.undoes is None else (self.undoes, *self.undoes_also)

    @property
    def is_undo(self) -> bool:
        """Whether it put other runs back, or a part of them."""
        return self.undoes is not None or bool(self.undoes_in_part)

    @property
    def actor(self) -> Actor:
        """Whose it is: of who had logged in, or, where that is not known, of the user who ran it."""
        return self.behind or Actor(self.uid, self.user)


class RunBeginning(NamedTuple):
    """What is known of a run before it changes anything; the fields are as in :class:`Run`."""

    uid: int
    user: str | None
    command: tuple[str, ...]
    undoes: int | None = None
    gains: tuple[KeptShift, ...] = ()
    losses: tuple[KeptShift, ...] = ()
    undoes_also: tuple[int, ...] = ()
    behind: Actor | None = None
    undoes_in_part: tuple[int, ...] = ()

    @property
    def actor(self) -> Actor:
        """Whose it is, as of a :class:`Run`."""
        return self.behind or Actor(self.uid, self.user)


Waiting = Callable[["Run | None"], None]
"""Told once, before waiting for another run on the same objects: which that is, where it is known."""


def in_silence(run: "Run | None") -> None:
    """Tell nobody of whom is waited for."""


class History(Protocol):
    """Where runs are kept. Every method raises :class:`HistoryError` when that is not possible."""

    @property
    def place(self) -> str:
        """The path of the file it is kept in."""

    def alone(self, claims: Sequence[Claim], waiting: Waiting) -> AbstractContextManager[None]:
        """Nobody else who uses this history changes what is claimed meanwhile: waits for who does."""

    def begin(self, beginning: RunBeginning, intended: Intended) -> int:
        """Write down what is about to change, in this order; the number of the run. On return it is safe on disk."""

    def finish(self, number: int, settled: Sequence[SettledObjects], *, changed: int, complete: bool) -> None:
        """Write down what has become of the run, and of the objects that were not simply changed."""

    def runs(self) -> list[Run]:
        """All runs that can be read, the latest first."""

    def damage(self) -> list[Damage]:
        """Runs that :meth:`runs` leaves out, for they cannot be read, the latest first."""

    def run(self, number: int) -> Run:
        """The run of this number; :class:`RunError` where there is none, or it is damaged."""

    def entries(self, number: int) -> list[RunEntry]:
        """What a run was to change, in the order of the changes; :class:`RunDamaged` where any of it is damaged."""

    def verify(self) -> list[Damage]:
        """Everything that is wrong with it, the latest run first: each entry of each run is read."""
