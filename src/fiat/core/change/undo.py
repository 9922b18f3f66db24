"""Putting back what a run of the history has changed."""

import errno
import posixpath
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from fiat.core.change import steps
from fiat.core.change.apply import Outcome, Stopping, failed, look, same_posture, take
from fiat.core.change.history import Entry, History, Run, State
from fiat.core.change.steps import Change
from fiat.core.errors import HistoryError, PathError
from fiat.core.model.host import Host, Node
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Principal
from fiat.core.tree.handles import Handles


class Find(NamedTuple):
    """An object to be put back.

    ``change`` is what that will do, None where it cannot be told before;
    ``problem`` why it cannot be put back.
    """

    entry: Entry
    change: Change | None
    problem: PathError | None = None


def runs_to_undo(history: History) -> list[Run]:
    """The runs that changed something, are no undo themselves, and were not put back yet; the latest first."""
    return [run for run in history.runs() if run.undoes is None and run.state in (State.DONE, State.PARTIAL)]


def check(run: Run) -> None:
    """Raise :class:`HistoryError` where ``run`` cannot be put back now."""
    if run.state is State.UNDONE:
        raise HistoryError(f"run {run.number} was put back by run {run.undone_by}; fiat undo {run.undone_by} redoes it")
    if run.state is State.RUNNING:
        raise HistoryError(f"run {run.number} is still going on; wait until it has ended, or stop it")


def entries_to_undo(history: History, run: Run) -> list[Entry]:
    """The entries of ``run``, from the last to the first: a directory is given back its owner before what is in it.

    What an undo that failed in part left behind counts as the run's own.
    """
    left: dict[str, tuple[Posture, ...]] = {}
    for other in history.runs():
        if other.undoes == run.number:
            for entry in history.entries(other.number):
                left[entry.path] = (*left.get(entry.path, ()), entry.before, entry.after, *entry.between)
    return [
        entry._replace(place=place, between=(*entry.between, *left.get(entry.path, ())))
        for place, entry in enumerate(history.entries(run.number, backwards=True))
    ]


def find(host: Host, entries: Iterable[Entry]) -> Iterator[Find]:
    """What putting back will do to each object, as it is found now.

    What is in a directory that is opened again first, and may not be looked
    at until then, is taken to be as the run left it.
    """
    handles = Handles(host)
    actor = host.actor()
    opened: set[str] = set()
    try:
        for entry in entries:
            if entry.before.directory:
                opened.add(entry.path)
            try:
                node = handles.open(entry.path)
            except OSError as error:
                if error.errno == errno.EACCES and _is_under(entry.path, opened):
                    change = _towards(entry.after, entry, actor)
                    yield Find(entry, change, _left_undone(entry, change))
                else:
                    yield Find(entry, None, failed(entry.path, error, "put back"))
                continue
            try:
                found = look(node)
                problem = differs(entry, found)
                if problem is not None:
                    yield Find(entry, None, problem)
                    continue
                change = way_back(found, entry, actor)
                yield Find(entry, change, _left_undone(entry, change))
            except OSError as error:
                yield Find(entry, None, failed(entry.path, error, "put back"))
            finally:
                node.close()
    finally:
        handles.close()


def put_back(host: Host, entries: Iterable[Entry], stopping: Stopping) -> Iterator[Outcome]:
    """Put each object back from whatever state the run left it in; the outcome of each that was tried."""
    handles = Handles(host)
    actor = host.actor()
    try:
        for entry in entries:
            if stopping():
                return
            outcome = Outcome(entry.place, entry.path)
            try:
                node = handles.open(entry.path)
            except OSError as error:
                yield outcome._replace(error=failed(entry.path, error))
                continue
            try:
                found = look(node)
                problem = differs(entry, found)
                if problem is not None:
                    yield outcome._replace(error=problem)
                elif same_posture(found.posture, entry.before):
                    yield outcome._replace(already=True)
                else:
                    yield outcome._replace(error=_put_one_back(node, found, entry, actor))
            except OSError as error:
                yield outcome._replace(error=failed(entry.path, error))
            finally:
                node.close()
    finally:
        handles.close()


def differs(entry: Entry, found: Object) -> PathError | None:
    """Why what is ``found`` at the path of ``entry`` is not what the run left there; None if it is."""
    if not found.status.identity.same_as(entry.identity):
        return PathError(entry.path, errno.EBUSY, "put back", "another object is there now, and is left alone")
    if not any(same_posture(found.posture, one) for one in (entry.before, entry.after, *entry.between)):
        return PathError(entry.path, errno.EBUSY, "put back", "it was changed since by someone else, and is left alone")
    return None


def _is_under(path: str, directories: set[str]) -> bool:
    while path != "/":
        path = posixpath.dirname(path)
        if path in directories:
            return True
    return False


def _left_undone(entry: Entry, change: Change) -> PathError | None:
    """Why the change does not put back all of it; None where it does."""
    if change.errno:
        return PathError(entry.path, change.errno, "put back")
    if not same_posture(change.after, entry.before):
        return PathError(entry.path, errno.EPERM, "put back all of", "the kernel leaves out what only root may set")
    return None


def way_back(found: Object, entry: Entry, actor: Principal) -> Change:
    """What putting back will do to the object that was ``found``."""
    return _towards(found.posture, entry, actor, found)


def _towards(now: Posture, entry: Entry, actor: Principal, found: Object | None = None) -> Change:
    wanted = entry.before._replace(flags=now.flags)
    mount, keeps_lists = (found.mount, found.keeps_lists) if found is not None else (None, None)
    return steps.change(now, steps.steps_towards(now, wanted, actor), actor, mount, keeps_lists)


def _put_one_back(node: Node, found: Object, entry: Entry, actor: Principal) -> PathError | None:
    change = way_back(found, entry, actor)
    if change.errno:
        return _left_undone(entry, change)
    take(node, change.steps)
    if not same_posture(look(node).posture, change.after):
        return PathError(entry.path, errno.EIO, "confirm the change of", "the kernel made something else of it")
    return _left_undone(entry, change)
