"""Putting back what a run of the history has changed."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager, nullcontext, suppress
from enum import Enum
from typing import NamedTuple

from fiat.app.problems import Problem, raise_problem
from fiat.app.running import RunResult, beginning_of, run
from fiat.core.ask.effects import KeptShift
from fiat.core.change import undo
from fiat.core.change.claims import claims
from fiat.core.change.history import Actor, History, Intended, Run, RunEntry, Waiting, in_silence
from fiat.core.change.privilege import with_digests
from fiat.core.change.steps import Change
from fiat.core.change.undo import NOTHING, UndoObject
from fiat.core.change.undo import UndoTerms as UndoTerms
from fiat.core.errors import HistoryError, RunDamaged, RunError
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.route import lies_under
from fiat.core.text import counted, joined, quoted
from fiat.engine import changing

Hold = Callable[[Run, Sequence[RunEntry]], bool]
"""Keeps others from the objects of a run; whether they had to be waited for."""


def hold_nothing(undone: Run, entries: Sequence[RunEntry]) -> bool:
    """A lock that keeps nobody from anything: for a plan that is only shown."""
    return False


class RunChoice(NamedTuple):
    """Which runs are to be put back, as one: those from ``first`` to ``last``, that began ``since`` (seconds since the
    epoch), that are of ``by``, of these the ``latest`` so many, and of them what is at or below ``path``; what is
    None does not count.
    """

    first: int | None = None
    last: int | None = None
    since: float | None = None
    path: str | None = None
    latest: int | None = None
    by: Actor | None = None


class Undoing(NamedTuple):
    """What undoing a run will do, or has done (``result``).

    ``passed_over`` are later runs of which nothing can be put back any more, ``damaged``
    later ones that cannot be read. ``earlier`` are runs before it that are put
    back with it, the latest first; ``in_part`` those of all of these of which only a part is. ``others`` are
    those that would have been meant, were they not somebody else's. ``despite`` what was accepted.
    """

    undone: Run
    finds: list[UndoObject]
    result: RunResult | None
    host: Host
    passed_over: tuple[Run, ...] = ()
    damaged: tuple[int, ...] = ()
    earlier: tuple[Run, ...] = ()
    in_part: tuple[Run, ...] = ()
    gains: tuple[KeptShift, ...] = ()
    losses: tuple[KeptShift, ...] = ()
    despite: UndoTerms = NOTHING
    others: tuple[Run, ...] = ()

    @property
    def runs(self) -> tuple[Run, ...]:
        """All that are put back, the latest first."""
        return (self.undone, *self.earlier)

    @property
    def overwritten(self) -> list[UndoObject]:
        """What others have changed since, and is put back all the same."""
        return [find for find in self.finds if find.changed is not None and find.problem is None]

    @property
    def changing(self) -> list[UndoObject]:
        """The objects that are not as they were before the run, and can be put back."""
        distinct = {id(find.change): find for find in self.finds}  # most have the very same
        changing = {key for key, find in distinct.items() if _changes(find)}
        return [find for find in self.finds if id(find.change) in changing]

    @property
    def hopeless(self) -> bool:
        """Whether nothing of it can be put back, and not because all is: it changed nothing, or that is not there."""
        return self.nothing and (not self.finds or any(find.problem is not None for find in self.finds))

    @property
    def nothing(self) -> bool:
        """Whether nothing is to be put back, or can be."""
        return not any(map(_changes, self.finds))


def _changes(find: UndoObject) -> bool:
    return find.change is not None and find.change.changes


def undoing(
    host: Host,
    history: History,
    number: int | None = None,
    hold: Hold = hold_nothing,
    *,
    despite: UndoTerms = NOTHING,
) -> Undoing:
    """What putting back a run would do: the one with ``number``, or the latest of which anything can be put back.

    ``hold`` is called with each run that is tried, before its objects are looked at. ``despite`` says
    what is put back all the same.
    """
    if number is not None:
        history.run(number)  # which says what is wrong where it is not there
        return _undoing(host, history, number, hold, despite)
    passed_over: list[Run] = []
    back: Undoing | None = None
    damaged = [one.number for one in history.damage() if one.number is not None]
    for undone in undo.runs_to_undo(history):
        try:
            found = _undoing(host, history, undone.number, hold, despite)
        except RunDamaged:
            damaged.append(undone.number)
            continue
        except RunError:  # who was waited for has put it back
            continue
        if found.nothing and not found.hopeless:  # all is back already, by whatever it was
            back = back or found
            continue
        if not found.finds:  # it was stopped, or failed, before it changed anything
            continue
        if not found.hopeless:
            later = sorted((one for one in damaged if one > undone.number), reverse=True)
            return found._replace(passed_over=tuple(passed_over), damaged=tuple(later))
        passed_over.append(undone)
    if back is not None and not passed_over:
        return back
    if passed_over or damaged:
        runs = joined(map(str, sorted([run.number for run in passed_over] + damaged)))
        raise RunError(f"of what is left to undo (run {runs}) nothing can be put back; fiat undo N says why")
    if not history.runs():
        raise RunError(f"nothing is left to undo: by the history {quoted(history.place)} nothing has been changed yet")
    raise RunError("nothing is left to undo; fiat history lists what was done")


def _undoing(host: Host, history: History, number: int, hold: Hold, despite: UndoTerms) -> Undoing:
    undone, entries = _one(history, number)
    if hold(undone, entries):  # others may have put it back until then
        undone, entries = _one(history, number)
    finds = undo.with_later_runs(history, [undone], changing.find(host, entries, despite))
    return Undoing(undone, finds, None, host, gains=undone.losses, losses=undone.gains, despite=despite)


def _one(history: History, number: int) -> tuple[Run, list[RunEntry]]:
    """A run as it stands, and what of it is to be put back."""
    runs = history.runs()
    undone = next(run for run in undo.as_they_stand(history, runs) if run.number == number)
    undo.check(undone)
    return undone, undo.entries_to_undo(history, undone, runs)


def undoing_several(
    host: Host,
    history: History,
    which: RunChoice,
    hold: Hold = hold_nothing,
    *,
    despite: UndoTerms = NOTHING,
) -> Undoing:
    """What putting back several runs as one would do; :class:`RunError` where there are none."""
    chosen = _several(history, which)
    if hold(chosen.runs[0], chosen.entries):  # others may have put some of it back until then
        chosen = _several(history, which)
    runs, entries, in_part, others = chosen
    finds = undo.with_later_runs(history, runs, changing.find(host, entries, despite))
    found = Undoing(
        runs[0],
        finds,
        None,
        host,
        earlier=tuple(runs[1:]),
        in_part=tuple(in_part),
        despite=despite,
        others=tuple(others),
    )
    from fiat.app.undoeffects import effects_of  # loads NumPy

    gains, losses = effects_of(host, found.changing)
    return found._replace(gains=gains, losses=losses)


class _Chosen(NamedTuple):
    """The ``runs`` that are meant, the latest first, what is to be put back, of which of them that is only a part, and
    what would be meant were it not somebody else's."""

    runs: list[Run]
    entries: list[RunEntry]
    in_part: list[Run]
    others: list[Run]


def _several(history: History, which: RunChoice) -> _Chosen:
    every = history.runs()
    meant: list[Run] = []
    for run_ in undo.runs_to_undo(history, every):
        after = which.first is None or run_.number >= which.first
        before = which.last is None or run_.number <= which.last
        if after and before and (which.since is None or run_.started >= which.since):
            meant.append(run_)
    runs = [run_ for run_ in meant if which.by is None or run_.actor.is_same(which.by)]
    others = [run_ for run_ in meant if run_ not in runs] if which.since is not None else []
    in_part: list[Run] = []
    if which.path is not None:
        touched: list[Run] = []
        for run_ in runs:
            mine = [lies_under(entry.path, which.path) for entry in undo.entries_to_undo(history, run_, every)]
            touched += [run_] if any(mine) else []
            in_part += [run_] if any(mine) and not all(mine) else []
        runs = touched
    if which.latest is not None:
        runs = runs[: which.latest]
        in_part = [run_ for run_ in in_part if run_ in runs]
    if not runs:
        left = f": {counted(len(others), 'run')} of others, which --by everyone takes" if others else ""
        raise RunError(f"no run that is left to undo is meant{left}; fiat history lists what was done")
    entries = undo.entries_of_several(history, runs)
    if which.path is not None:
        entries = [entry for entry in entries if lies_under(entry.path, which.path)]
    return _Chosen(runs, entries, in_part, others)


class Lock(Enum):
    """Whether others are kept from the objects of a run: no, where that can be done, or else nothing is done."""

    NONE = 0
    WHERE_POSSIBLE = 1
    NEEDED = 2


@contextmanager
def undoing_alone(
    host: Host,
    history: History,
    number: "int | RunChoice | None",
    waiting: Waiting = in_silence,
    lock: Lock = Lock.NEEDED,
    *,
    despite: UndoTerms = NOTHING,
) -> Iterator[Undoing]:
    """As :func:`undoing`, or :func:`undoing_several`; nobody else with this history changes the objects meanwhile."""
    with ExitStack() as held:

        def hold(undone: Run, entries: Sequence[RunEntry]) -> bool:
            waited = False

            def wait(run: Run | None) -> None:
                nonlocal waited
                waited = True
                waiting(run)

            held.close()
            if lock is not Lock.NONE:
                with suppress(HistoryError) if lock is Lock.WHERE_POSSIBLE else nullcontext():
                    held.enter_context(history.alone(claims(host, (one.path for one in entries)), wait))
            return waited

        if isinstance(number, RunChoice):
            yield undoing_several(host, history, number, hold, despite=despite)
        else:
            yield undoing(host, history, number, hold, despite=despite)


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
    host = planned.host
    if planned.nothing:
        problems = [find.problem for find in planned.finds if find.problem is not None]
        for error in problems:
            problem(error)
        already = len(planned.finds) - len(problems)
        return planned._replace(result=RunResult(None, history.place, 0, already, len(problems)))
    whole = [one.number for one in planned.runs if one not in planned.in_part]
    beginning = beginning_of(host.accounts, command)._replace(
        undoes=whole[0] if whole else None,
        gains=planned.gains,
        losses=planned.losses,
        undoes_also=tuple(whole[1:]),
        undoes_in_part=tuple(one.number for one in planned.in_part),
    )
    entries, found, _, _ = zip(*planned.finds, strict=True)
    changes = [change or _turned(entry) for entry, change in zip(entries, found, strict=True)]
    paths, identities, *_ = zip(*entries, strict=True)
    distinct = {id(change): change for change in changes}  # of most objects it is the very same
    number_of = {key: number for number, key in enumerate(distinct)}
    numbers = [number_of[id(change)] for change in changes]
    about = with_digests(host, Intended(paths, identities, [*distinct.values()], numbers))
    result = run(
        lambda stopping: changing.put_back(host, planned.finds, stopping, planned.despite),
        about,
        beginning,
        history if record else None,
        problem=problem,
        progress=progress,
    )
    return planned._replace(result=result)


def _turned(entry: RunEntry) -> Change:
    """What putting back does to an object that could not be looked at before."""
    return Change(entry.after, entry.before, between=(*entry.between, entry.after))
