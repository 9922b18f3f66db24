"""The history: what was changed, and putting it back."""

from collections.abc import Sequence
from typing import NamedTuple

from fiat.app.problems import Problem, raise_problem
from fiat.app.running import Result, run, who_runs
from fiat.core.change import undo
from fiat.core.change.history import Beginning, Fate, History, Run
from fiat.core.change.undo import Find
from fiat.core.errors import NotationError
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.text import quoted

__all__ = ["History", "Undoing", "open_history", "put_back", "run_number", "undoing"]


def open_history(place: str | None = None) -> History:
    """The history in the file ``place``, or the usual one: root's under /var/lib, others' in their own state folder."""
    from fiat.host.history.sqlite import SqliteHistory, usual_place

    if place is not None:
        return SqliteHistory(place)
    return SqliteHistory(usual_place(), make_folder=True)


def run_number(word: str) -> int:
    """The number of a run as written."""
    if not word.isdecimal() or not word.isascii() or len(word) > 15:
        raise NotationError(word, f"{quoted(word)} is no number of a run; fiat history lists them")
    return int(word)


class Undoing(NamedTuple):
    """What undoing a run will do, or has done (``result``)."""

    undone: Run
    finds: list[Find]
    result: Result | None
    host: Host

    @property
    def changing(self) -> list[Find]:
        """The objects that are not as they were before the run, and can be put back."""
        return [find for find in self.finds if find.change is not None and find.change.changes]


def undoing(host: Host, history: History, number: int | None = None) -> Undoing:
    """What putting back a run would do: the one with ``number``, or the latest that was not put back yet."""
    undone = undo.latest_to_undo(history) if number is None else history.run(number)
    undo.check(undone)
    finds = list(undo.find(host, undo.entries_to_undo(history, undone)))
    return Undoing(undone, finds, None, host)


def put_back(
    planned: Undoing,
    history: History,
    command: Sequence[str] = (),
    *,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Undoing:
    """Put a run back; what someone else changed since is left alone, and a problem.

    Raises :class:`HistoryError` before anything has changed.
    """
    undone, host = planned.undone, planned.host
    beginning = Beginning(who_runs(host.accounts), tuple(command), undone.number, undone.losses, undone.gains)
    turned = []
    for entry, change, _ in planned.finds:
        before, after = (change.before, change.after) if change else (entry.after, entry.before)
        between = change.between if change else (*entry.between, entry.after)
        turned.append(entry._replace(before=before, after=after, between=between, fate=Fate.PLANNED))
    entries = [find.entry for find in planned.finds]
    result = run(
        lambda stopping: undo.put_back(host, entries, stopping),
        turned,
        beginning,
        history,
        problem=problem,
        progress=progress,
    )
    return planned._replace(result=result)
