"""Changing many objects at once: by as many processes as there are processors, where the host cannot do it together."""

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple, Protocol, TypeVar

from fiat.core.change import apply as applying
from fiat.core.change import undo as undoing
from fiat.core.change.apply import settle
from fiat.core.change.history import RunEntry
from fiat.core.change.planned import Items
from fiat.core.change.rewriting import Outcome, Stopping, TriedObjects
from fiat.core.change.steps import Change
from fiat.core.change.together import together_on
from fiat.core.change.undo import UndoObject, UndoTerms
from fiat.core.errors import PathError
from fiat.core.model.capabilities import DAC_OVERRIDE
from fiat.core.model.host import Host
from fiat.core.model.posture import Posture
from fiat.engine.processes import Workers, WorkResult

_ALONE = 4000
"""So few are changed by this process alone before others were ready."""

_PIECE = 400
"""Objects that a process changes before it is asked again whether to go on."""

_LOOKED_AT = 4000
"""Objects that a process looks at in one go."""

Result = TypeVar("Result")


def apply(host: Host, items: Items, stopping: Stopping) -> Iterator[TriedObjects]:
    """Change the items; what came of them.

    Raises :class:`WorkError` at the end where a process was killed: what it was
    changing then is looked at, and nothing after that was tried.
    """

    def change(places: range, stopping: Stopping, *, at_once: bool = False) -> Iterator[TriedObjects]:
        return applying.apply(host, items, stopping, places, at_once=at_once)

    def settled(places: range) -> Iterator[TriedObjects]:
        some = ((place, items[place]) for place in places)
        return settle(host, ((place, item.path, item.identity, item.change) for place, item in some))

    return _changed(host, len(items), change, settled, stopping)


def put_back(host: Host, finds: Sequence[UndoObject], stopping: Stopping, despite: UndoTerms) -> Iterator[TriedObjects]:
    """Put the objects of a run back, as :func:`apply` changes them."""

    def change(places: range, stopping: Stopping, *, at_once: bool = False) -> Iterator[TriedObjects]:
        return undoing.put_back(host, finds, stopping, places, despite, at_once=at_once)

    def settled(places: range) -> Iterator[TriedObjects]:
        some = ((place, finds[place].entry) for place in places)
        return settle(host, ((place, one.path, one.identity, Change(one.after, one.before)) for place, one in some))

    return _changed(host, len(finds), change, settled, stopping)


def find(host: Host, entries: Sequence[RunEntry], despite: UndoTerms) -> list[UndoObject]:
    """What putting back will do to each object; the rest as for :func:`fiat.core.change.undo.find`."""
    helped = _helped(host, len(entries))
    if not helped or together_on(host) is not None:
        return list(undoing.find(host, entries, despite, at_once=helped))

    def work(places: range) -> _Found:
        found = list(undoing.find(host, entries[places.start : places.stop], despite))
        changes = {id(one.change): one.change for one in found}  # of most that are alike, the very same
        place_of = {key: place for place, key in enumerate(changes)}
        numbers = [place_of[id(one.change)] for one in found]
        problems = {place: one.problem for place, one in zip(places, found, strict=True) if one.problem is not None}
        changed = {place: one.changed for place, one in zip(places, found, strict=True) if one.changed is not None}
        return _Found(list(changes.values()), numbers, problems, changed)

    parts = {places.start: done.value() for places, done in _by_several(work, len(entries), lambda: False, _LOOKED_AT)}
    known: dict[Change | None, Change | None] = {}
    changes: list[Change | None] = []
    problems: dict[int, PathError] = {}
    changed: dict[int, Posture] = {}
    for _, part in sorted(parts.items()):
        theirs = [known.setdefault(change, change) for change in part.changes]
        changes += (theirs[number] for number in part.numbers)
        problems |= part.problems
        changed |= part.changed
    everything = range(len(entries))
    return list(map(UndoObject, entries, changes, map(problems.get, everything), map(changed.get, everything)))


class _Changing(Protocol):
    """Changes the objects at some places, several at once where the host can."""

    def __call__(self, places: range, stopping: Stopping, *, at_once: bool = False) -> Iterable[TriedObjects]:
        """What comes of them."""


class _Found(NamedTuple):
    """What one process found: of each object the number of its change, and by its place what stands against it, and
    what others have made of it since.
    """

    changes: list[Change | None]
    numbers: list[int]
    problems: dict[int, PathError]
    changed: dict[int, Posture]


def _changed(
    host: Host,
    count: int,
    change: "_Changing",
    settled: Callable[[range], Iterable[TriedObjects]],
    stopping: Stopping,
) -> Iterator[TriedObjects]:
    """What comes of changes; ``settled`` tells what has come of those that a process did not end.

    With others only where the one who acts gets everywhere anyway: others may
    need what is in a directory to be changed before the directory is.
    """
    helped = _helped(host, count)
    if not helped or together_on(host) is not None:
        yield from change(range(count), stopping, at_once=helped)
        return

    def work(places: range) -> tuple[Outcome, ...]:
        """What is to be told."""
        return tuple(one for tried in change(places, lambda: False) for one in tried.told)

    errors: list[Exception] = []
    for places, done in _by_several(work, count, lambda: stopping() or bool(errors)):
        if done.error is None:
            yield TriedObjects(places.start, places.stop, done.value())
        else:
            errors.append(done.error)
            yield from settled(places)
    if errors:
        raise errors[0]


def _by_several(
    work: Callable[[range], Result], count: int, stopping: Stopping, size: int = _PIECE
) -> Iterator[tuple[range, WorkResult[Result]]]:
    """Have ``count`` objects done, ``size`` of them in a piece, by several processes or, without any, by this one.

    They come in no particular order. Where it is to stop, the pieces that are under way are still done.
    """
    waiting = iter([range(start, min(start + size, count)) for start in range(0, count, size)])
    with Workers(_processors(), lambda: work) as workers:
        given: dict[int, range] = {}
        more = workers.count > 0
        while more or workers.busy:
            while more and workers.idle:
                piece = None if stopping() else next(waiting, None)
                more = piece is not None
                if piece is not None:
                    given[workers.give(piece)] = piece
            for done in workers.results() if workers.busy else ():
                yield given.pop(done.number), done
            more = more and workers.count > 0
        alone = not given and not workers.count
    for piece in waiting if alone else ():  # no other process could be started
        if stopping():
            return
        yield piece, WorkResult(0, work(piece))


def _helped(host: Host, count: int) -> bool:
    return _processors() > 1 and count >= _ALONE and host.actor().holds(DAC_OVERRIDE)


def _processors() -> int:
    return len(os.sched_getaffinity(0))
