"""Applying a plan with as many processes as there are processors."""

import os
from collections.abc import Callable, Iterator, Sequence

from fiat.core.change import apply as applying
from fiat.core.change.apply import Outcome, Stopping
from fiat.core.change.planned import Item
from fiat.core.model.capabilities import DAC_OVERRIDE
from fiat.core.model.host import Host
from fiat.engine.processes import Workers

_ALONE = 4000
"""So few are changed by this process alone before others were ready."""

_PIECE = 400
"""Changes that a process makes before it is asked again whether to go on."""

Piece = tuple[int, int]


def apply(host: Host, items: Sequence[Item], stopping: Stopping) -> Iterator[Outcome]:
    """Change the items; the outcome of each that was tried.

    With others only where the one who acts gets everywhere anyway: others may
    need what is in a directory to be changed before the directory is.
    """
    count = len(os.sched_getaffinity(0))
    if count == 1 or len(items) < _ALONE or not host.actor().holds(DAC_OVERRIDE):
        yield from applying.apply(host, items, stopping)
        return

    def begin() -> Callable[[Piece], list[Outcome]]:
        return lambda piece: _change(host, items, piece)

    waiting = iter([(start, min(start + _PIECE, len(items))) for start in range(0, len(items), _PIECE)])
    more = True
    with Workers(count, begin) as workers:
        while more or workers.busy:
            while more and workers.idle:
                piece = None if stopping() else next(waiting, None)
                more = piece is not None
                if piece is not None:
                    workers.give(piece)
            if workers.busy:
                for _, outcomes in workers.results():
                    yield from outcomes


def _change(host: Host, items: Sequence[Item], piece: Piece) -> list[Outcome]:
    start, end = piece
    found = applying.apply(host, items[start:end], lambda: False)
    return [outcome._replace(place=start + outcome.place) for outcome in found]
