"""Carrying out changes as a run of the history: what setting and undoing have in common."""

import errno
import os
import signal
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from types import FrameType
from typing import NamedTuple

from fiat.app.problems import Problem
from fiat.core.change.apply import Outcome, Stopping
from fiat.core.change.history import Beginning, Entry, Fate, History
from fiat.core.errors import HistoryError, PathError
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Progress

_STEP = 200
"""Objects between two reports of progress."""


class Result(NamedTuple):
    """What became of a run: how many objects changed, were so already, failed, and were left untried.

    ``number`` is its number in the history, whose file is ``place``; None where
    there is none. ``unfinished`` is why the history could not be written at
    the end: the run can be undone all the same.
    """

    number: int | None = None
    place: str = ""
    changed: int = 0
    already: int = 0
    failed: int = 0
    left: int = 0
    unfinished: HistoryError | None = None

    @property
    def complete(self) -> bool:
        """Whether everything is as it was to be."""
        return not self.failed and not self.left


def run(
    outcomes: Callable[[Stopping], Iterable[Outcome]],
    entries: Sequence[Entry],
    beginning: Beginning,
    history: History | None,
    *,
    problem: Problem,
    progress: Progress,
    stop_at_first: bool = False,
) -> Result:
    """Write down what is about to change, let it change, and write down what has become of it.

    Ctrl-C, and the first failure where ``stop_at_first``, stop it between two
    objects. Raises :class:`HistoryError` before anything has changed.
    """
    with _interruptible() as interrupted:
        number = history.begin(beginning, entries) if history is not None else None
        fates: list[tuple[int, Fate]] = []
        changed = 0
        tried = bytearray(len(entries))
        errors: list[PathError] = []
        for count, outcome in enumerate(outcomes(lambda: interrupted() or (stop_at_first and bool(errors))), 1):
            tried[outcome.place] = 1
            if outcome.error is not None:
                errors.append(outcome.error)
                fates.append((outcome.place, Fate.FAILED))
            elif outcome.already:
                fates.append((outcome.place, Fate.ALREADY))
            else:
                changed += 1
            if count % _STEP == 0:
                progress(count, outcome.path.rpartition("/")[0] or "/")
        for error in errors:
            problem(error)
        left = [one for one in range(len(entries)) if not tried[one]]
        already = sum(fate is Fate.ALREADY for _, fate in fates)
        fates += ((one, Fate.LEFT) for one in left)
        place = history.place if history is not None else ""
        result = Result(number, place, changed, already, len(errors), len(left))
        if left and interrupted():
            problem(PathError(entries[left[0]].path, errno.EINTR, "go on with"))
        if history is not None and number is not None:
            try:
                history.finish(number, fates, changed=changed, complete=result.complete)
            except HistoryError as error:
                result = result._replace(unfinished=error)
        return result


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


def who_runs(accounts: Accounts) -> str | None:
    """The name of the user who runs this process; None where the number has no account."""
    found = accounts.user_numbered(os.geteuid())
    return found.name if found else None
