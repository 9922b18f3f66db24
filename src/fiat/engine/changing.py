"""Changing many objects with as many processes as there are processors."""

import os
from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

from fiat.core.change import apply as applying
from fiat.core.change import undo as undoing
from fiat.core.change.apply import Outcome, Stopping, settle
from fiat.core.change.history import Entry
from fiat.core.change.planned import Item
from fiat.core.change.steps import Change
from fiat.core.change.undo import Find
from fiat.core.errors import PathError
from fiat.core.model.capabilities import DAC_OVERRIDE
from fiat.core.model.host import Host
from fiat.engine.processes import Done, Workers

_ALONE = 4000
"""So few are changed by this process alone before others were ready."""

_PIECE = 400
"""Objects that a process does before it is asked again whether to go on."""

Piece = tuple[int, int]
Result = TypeVar("Result")


def apply(host: Host, items: Sequence[Item], stopping: Stopping) -> Iterator[Outcome]:
    """Change the items; the outcome of each that was tried.

    Raises :class:`WorkError` at the end where a process was killed: what it was
    changing then is looked at, and nothing after that was tried.
    """

    def entries(start: int, end: int) -> list[Entry]:
        return [one._replace(place=start + one.place) for one in applying.entries_of(items[start:end])]

    def change(start: int, end: int, stopping: Stopping) -> Iterator[Outcome]:
        for outcome in applying.apply(host, items[start:end], stopping):
            yield outcome._replace(place=start + outcome.place)

    return _changed(host, [item.path for item in items], change, entries, stopping)


def put_back(host: Host, entries: Sequence[Entry], stopping: Stopping) -> Iterator[Outcome]:
    """Put the objects of a run back, as :func:`apply` changes them. Their places are those in ``entries``."""

    def turned(start: int, end: int) -> list[Entry]:
        return [one._replace(before=one.after, after=one.before) for one in entries[start:end]]

    def change(start: int, end: int, stopping: Stopping) -> Iterator[Outcome]:
        return undoing.put_back(host, entries[start:end], stopping)

    return _changed(host, [entry.path for entry in entries], change, turned, stopping)


def find(host: Host, entries: Sequence[Entry]) -> list[Find]:
    """What putting back will do to each object."""
    if not _helped(host, len(entries)):
        return list(undoing.find(host, entries))

    def work(piece: Piece) -> list[tuple[Change | None, PathError | None]]:
        return [(one.change, one.problem) for one in undoing.find(host, entries[slice(*piece)])]

    parts = {piece: done.value() for piece, done in _by_several(work, len(entries), lambda: False)}
    found = (one for _, part in sorted(parts.items()) for one in part)
    return [Find(entry, *one) for entry, one in zip(entries, found, strict=True)]


def _changed(
    host: Host,
    paths: Sequence[str],
    change: Callable[[int, int, Stopping], Iterator[Outcome]],
    entries: Callable[[int, int], list[Entry]],
    stopping: Stopping,
) -> Iterator[Outcome]:
    """What comes of the changes to ``paths``; ``entries`` tells what an object was to become.

    With others only where the one who acts gets everywhere anyway: others may
    need what is in a directory to be changed before the directory is.
    """
    count = len(paths)
    if not _helped(host, count):
        yield from change(0, count, stopping)
        return

    def work(piece: Piece) -> list[Outcome]:
        """What is to be told: of most there is nothing but that they were changed."""
        return [one for one in change(*piece, lambda: False) if one != Outcome(one.place, one.path)]

    errors: list[Exception] = []
    for piece, done in _by_several(work, count, lambda: stopping() or bool(errors)):
        if done.error is None:
            told = {one.place: one for one in done.value()}
            for place in range(*piece):
                yield told.get(place) or Outcome(place, paths[place])
        else:
            errors.append(done.error)
            yield from settle(host, entries(*piece))
    if errors:
        raise errors[0]


def _by_several(
    work: Callable[[Piece], Result], count: int, stopping: Stopping
) -> Iterator[tuple[Piece, Done[Result]]]:
    """Have ``count`` objects done in pieces by several processes, in no particular order, or by this one alone.

    Where it is to stop, the pieces that are under way are still done.
    """
    waiting = iter([(start, min(start + _PIECE, count)) for start in range(0, count, _PIECE)])
    with Workers(_processors(), lambda: work) as workers:
        given: dict[int, Piece] = {}
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
        yield piece, Done(0, work(piece))


def _helped(host: Host, count: int) -> bool:
    return _processors() > 1 and count >= _ALONE and host.actor().holds(DAC_OVERRIDE)


def _processors() -> int:
    return len(os.sched_getaffinity(0))
