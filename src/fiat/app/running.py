"""Carrying out changes as a run of the history: what setting and undoing have in common."""

import errno
import os
import signal
import threading
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from types import FrameType
from typing import NamedTuple

from fiat.app.problems import Problem
from fiat.core.change.history import History, Intended, ObjectFate, RunBeginning, SettledObjects
from fiat.core.change.rewriting import Outcome, Stopping, TriedObjects
from fiat.core.errors import HistoryError, Interrupted, PathError, WorkError
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Progress
from fiat.host.live.behind import who_is_behind

_STEP = 200
"""Objects between two reports of progress."""


class RunResult(NamedTuple):
    """What became of a run: how many objects changed, were so already, failed, and were left untried.

    ``astray`` of those that failed are neither as before nor as planned.
    ``number`` is its number in the history, whose file is ``place``; None where
    there is none. ``unfinished`` is why the history could not be written at
    the end: the run can be undone all the same. ``stopped`` is what ended it before
    its end, if anything did.
    """

    number: int | None = None
    place: str = ""
    changed: int = 0
    already: int = 0
    failed: int = 0
    left: int = 0
    astray: int = 0
    unfinished: HistoryError | None = None
    stopped: str | None = None

    @property
    def complete(self) -> bool:
        """Whether everything is as it was to be."""
        return not self.failed and not self.left


def run(
    change: Callable[[Stopping], Iterable[TriedObjects]],
    intended: Intended,
    beginning: RunBeginning,
    history: History | None,
    *,
    problem: Problem,
    progress: Progress,
    stop_at_first: bool = False,
) -> RunResult:
    """Write down what is about to change, let it change, and write down what has become of it.

    Ctrl-C, and the first failure where ``stop_at_first``, stop it between two
    objects. Raises :class:`HistoryError` before anything has changed.
    """
    with _interruptible() as interrupted:
        number = history.begin(beginning, intended) if history is not None else None
        tally = _Tally(len(intended.paths))
        stopped: str | None = None
        known = True
        try:
            reported = 0
            for tried in change(lambda: interrupted() or (stop_at_first and bool(tally.errors))):
                tally.take(tried)
                if tally.tried - reported >= _STEP:
                    reported = tally.tried
                    progress(reported, intended.paths[tried.first].rpartition("/")[0] or "/")
        except WorkError as error:
            stopped = str(error)
        except (OSError, MemoryError) as error:  # where exactly it was is not known then: undo looks at each object
            stopped = os.strerror(errno.ENOMEM) if isinstance(error, MemoryError) else error.strerror or str(error)
            known = False
        for error_of_one in tally.errors:
            problem(error_of_one)
        left = tally.left()
        result = tally.result()._replace(number=number, place=history.place if history is not None else "")
        if left and stopped is not None:
            problem(PathError(intended.paths[left[0].first], errno.EINTR, "go on with", stopped))
        elif left and interrupted():
            problem(Interrupted(intended.paths[left[0].first], "go on with"))
        if history is not None and number is not None and known:
            try:
                history.finish(number, tally.settled + left, changed=result.changed, complete=result.complete)
            except HistoryError as error:
                result = result._replace(unfinished=error)
        return result._replace(stopped=stopped)


class _Tally:
    """What has become of each object so far."""

    def __init__(self, whole: int) -> None:
        self.errors: list[PathError] = []
        self.settled: list[SettledObjects] = []
        self.tried = 0
        self._tried = bytearray(whole)
        self._counts: Counter[ObjectFate] = Counter()

    def take(self, tried: TriedObjects) -> None:
        count = tried.end - tried.first
        self.tried += count
        self._tried[tried.first : tried.end] = b"\1" * count
        for outcome in tried.told:
            self._take(outcome)

    def _take(self, outcome: Outcome) -> None:
        fate = (
            ObjectFate.ASTRAY
            if outcome.astray
            else ObjectFate.FAILED
            if outcome.error is not None
            else ObjectFate.ALREADY
        )
        self._counts[fate] += 1
        self.settled.append(SettledObjects(outcome.place, outcome.place, fate, outcome.found))
        if outcome.error is not None:
            self.errors.append(outcome.error)

    def left(self) -> list[SettledObjects]:
        """Those that were not tried, in runs of neighbours."""
        found = []
        start = self._tried.find(0)
        while start >= 0:
            end = self._tried.find(1, start)
            last = (end if end >= 0 else len(self._tried)) - 1
            found.append(SettledObjects(start, last, ObjectFate.LEFT))
            start = self._tried.find(0, last + 1)
        return found

    def result(self) -> RunResult:
        counts = self._counts
        failed = counts[ObjectFate.FAILED] + counts[ObjectFate.ASTRAY]
        left = self._tried.count(0)
        changed = self.tried - sum(counts.values())
        return RunResult(None, "", changed, counts[ObjectFate.ALREADY], failed, left, counts[ObjectFate.ASTRAY])


@contextmanager
def _interruptible() -> Iterator[Stopping]:
    """Ctrl-C, and a polite request to end, are only noted meanwhile: ask with what this yields."""
    asked: list[int] = []
    if threading.current_thread() is not threading.main_thread():  # only that one is sent signals
        yield lambda: False
        return

    def note(number: int, frame: FrameType | None) -> None:
        asked.append(number)

    before = {number: signal.signal(number, note) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    try:
        yield lambda: bool(asked)
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def runs_as_another() -> bool:
    """Whether this process has become another user than the one who logged in, as far as that is known."""
    from fiat.host.accounts.nameservice import NameService

    actor = who_is_behind(NameService())
    return os.getuid() != os.geteuid() or (actor is not None and actor.uid != os.geteuid())


def who_asks() -> RunBeginning:
    """Who runs this process, and who is behind that, by the accounts of this host."""
    from fiat.host.accounts.nameservice import NameService

    return beginning_of(NameService(), ())


def beginning_of(accounts: Accounts, command: Sequence[str]) -> RunBeginning:
    """What is known of a run of this process by the words ``command``: who runs it, and who is behind that."""
    found = accounts.user_numbered(os.geteuid())
    return RunBeginning(os.geteuid(), found.name if found else None, tuple(command), behind=who_is_behind(accounts))
