"""Carrying out with a history: what ``fiat set`` and ``fiat undo`` have in common."""

import argparse
import errno
import signal
import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from types import FrameType
from typing import Any, NamedTuple

from fiat.cli.progress import Progress
from fiat.core.change.apply import Outcome, Stopping
from fiat.core.change.history import Beginning, Entry, Fate, History
from fiat.core.errors import HistoryError, PathError
from fiat.core.suggest.advice import shell_word
from fiat.render import terminal, words
from fiat.render.report import Report

_STEP = 200
"""Objects between two updates of what is shown."""


def add_history(parser: argparse.ArgumentParser, *, without: bool = False) -> None:
    """The options that say where the history is."""
    parser.add_argument(
        "--history", metavar="FILE", help="the history of changes (root: /var/lib/fiat/history.db; others: their own)"
    )
    if without:
        parser.add_argument("--no-history", action="store_true", help="change without a history: fiat undo cannot help")


def history_option(place: str | None) -> str:
    """What a command line needs to speak of the same history."""
    return "" if place is None else f" --history {shell_word(place)}"


def open_history(args: argparse.Namespace) -> History:
    """The history that the command line names, or the usual one."""
    from fiat.host.history.sqlite import SqliteHistory, usual_place

    if args.history is not None:
        return SqliteHistory(args.history)
    return SqliteHistory(usual_place(), make_folder=True)


class Result(NamedTuple):
    """What became of a run: how many objects changed, were so already, failed, and were not come to.

    ``number`` is its number in the history, None where there is none.
    """

    number: int | None
    place: str
    changed: int
    already: int
    failed: int
    left: int

    @property
    def complete(self) -> bool:
        """Whether everything is as it was to be."""
        return not self.failed and not self.left

    def fields(self) -> dict[str, Any] | None:
        """The machine output of where this is in the history."""
        return None if self.number is None else {"run": self.number, "file": self.place}


def carry(
    outcomes: Callable[[Stopping], Iterable[Outcome]],
    entries: list[Entry],
    beginning: Beginning,
    history: History | None,
    report: Report,
    *,
    stop_at_first: bool = False,
) -> Result:
    """Write down what is about to change, let it change, and write down what has become of it.

    Ctrl-C, and the first failure where ``stop_at_first``, stop it between two
    objects. Raises :class:`HistoryError` before anything has changed.
    """
    with _interruptible() as interrupted:
        number = history.begin(beginning, entries) if history is not None else None
        fates: list[tuple[int, Fate]] = []
        changed = count = 0
        come_to = bytearray(len(entries))
        errors: list[PathError] = []
        with Progress(report.as_text, "changed", len(entries)) as progress:
            for outcome in outcomes(lambda: interrupted() or (stop_at_first and bool(errors))):
                come_to[outcome.place] = 1
                count += 1
                if outcome.error is not None:
                    errors.append(outcome.error)
                    fates.append((outcome.place, Fate.FAILED))
                elif outcome.already:
                    fates.append((outcome.place, Fate.ALREADY))
                else:
                    changed += 1
                if count % _STEP == 0:
                    progress.tell(count, outcome.path.rpartition("/")[0] or "/")
        for error in errors:
            report.problem(error)
        already = sum(fate is Fate.ALREADY for _, fate in fates)
        place = history.place if history is not None else ""
        left = [one for one in range(len(entries)) if not come_to[one]]
        fates += ((one, Fate.LEFT) for one in left)
        result = Result(number, place, changed, already, len(errors), len(left))
        if left and interrupted():
            report.problem(PathError(entries[left[0]].path, errno.EINTR, "go on with"))
        if history is not None and number is not None:
            try:
                history.finish(number, fates, changed=changed, complete=result.complete)
            except HistoryError as error:
                print(f"fiat {report.command}: run {number} can be undone, but {error}", file=sys.stderr)
        return result


@contextmanager
def _interruptible() -> Iterator[Stopping]:
    """Ctrl-C, and a polite request to end, only leave word meanwhile: asked with what this yields."""
    asked: list[int] = []

    def leave_word(number: int, frame: FrameType | None) -> None:
        asked.append(number)

    before = {number: signal.signal(number, leave_word) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    try:
        yield lambda: bool(asked)
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def print_ending(result: Result, args: argparse.Namespace, does: str = "puts it back") -> None:
    """The last line: what to type for the way back."""
    if result.number is None or not (result.changed or result.failed or result.left):
        return
    where = history_option(args.history)
    rest = f" {words.counted(result.left, 'path')} not come to." if result.left else ""
    print()
    terminal.say(f"Run {result.number} in the history; fiat undo {result.number}{where} {does}.{rest}")
