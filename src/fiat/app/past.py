"""The history: what was changed, and putting it back."""

from collections.abc import Sequence
from typing import NamedTuple

from fiat.app.problems import Problem, raise_problem
from fiat.app.running import Result, run, who_runs
from fiat.core.change import undo
from fiat.core.change.history import Beginning, Fate, History, Run
from fiat.core.change.undo import Find
from fiat.core.errors import HistoryError, NotationError
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.numbers import bounded
from fiat.core.text import joined, shortened

__all__ = ["History", "Undoing", "open_history", "put_back", "run_number", "undoing"]


def open_history(place: str | None = None) -> History:
    """The history in the file ``place``, or the usual one: root's under /var/lib, others' in their own state folder."""
    from fiat.host.history.sqlite import SqliteHistory, usual_place

    if place is not None:
        return SqliteHistory(place)
    return SqliteHistory(usual_place(), make_folder=True)


def run_number(word: str) -> int:
    """The number of a run as written."""
    found = bounded(word, 2**63 - 1)
    if found is None:
        raise NotationError(word, f"{shortened(word)} is no number of a run; fiat history lists them")
    return found


class Undoing(NamedTuple):
    """What undoing a run will do, or has done (``result``).

    ``passed_over`` are later runs of which nothing can be put back any more.
    """

    undone: Run
    finds: list[Find]
    result: Result | None
    host: Host
    passed_over: tuple[Run, ...] = ()

    @property
    def changing(self) -> list[Find]:
        """The objects that are not as they were before the run, and can be put back."""
        return [find for find in self.finds if find.change is not None and find.change.changes]

    @property
    def hopeless(self) -> bool:
        """Whether nothing of it can be put back, for what is there now is not what the run left, or has gone."""
        return not self.changing and any(find.problem is not None for find in self.finds)


def undoing(host: Host, history: History, number: int | None = None) -> Undoing:
    """What putting back a run would do: the one with ``number``, or the latest of which anything can be put back."""
    passed_over: list[Run] = []
    for undone in undo.runs_to_undo(history) if number is None else [history.run(number)]:
        undo.check(undone)
        finds = list(undo.find(host, undo.entries_to_undo(history, undone)))
        found = Undoing(undone, finds, None, host, tuple(passed_over))
        if number is not None or not found.hopeless:
            return found
        passed_over.append(undone)
    if passed_over:
        runs = joined(str(run.number) for run in passed_over)
        raise HistoryError(f"of what is left to undo (run {runs}) nothing can be put back; fiat undo N says why")
    raise HistoryError("nothing is left to undo; fiat history lists what was done")


def put_back(
    planned: Undoing,
    history: History,
    command: Sequence[str] = (),
    *,
    record: bool = True,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Undoing:
    """Put a run back; what someone else changed since is left alone, and a problem.

    Without ``record`` it is not written down, and the run still counts as not put
    back. Where nothing can be put back, nothing is written down either. Raises
    :class:`HistoryError` before anything has changed.
    """
    undone, host = planned.undone, planned.host
    if planned.hopeless:
        problems = [find.problem for find in planned.finds if find.problem is not None]
        for error in problems:
            problem(error)
        already = len(planned.finds) - len(problems)
        return planned._replace(result=Result(None, history.place, 0, already, len(problems)))
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
        history if record else None,
        problem=problem,
        progress=progress,
    )
    return planned._replace(result=result)
