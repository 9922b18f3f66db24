"""Many pieces of work done by several processes, their results in order."""

import os
from collections.abc import Callable, Iterator
from typing import TypeVar

from fiat.core.errors import WorkError
from fiat.engine.processes import Workers

Result = TypeVar("Result")


def in_order(count: int, work: Callable[[int], Result]) -> Iterator[Result]:
    """What ``work`` makes of the pieces 0 to ``count``, each in its turn.

    They are made by as many processes as there are processors; a piece whose
    process was killed, or for which none could be started, by this one.
    """
    processors = min(len(os.sched_getaffinity(0)), count)
    if processors < 2:
        yield from map(work, range(count))
        return
    with Workers(processors, lambda: work) as workers:
        given: dict[int, int] = {}
        made: dict[int, Result] = {}
        begun = 0
        for wanted in range(count):
            while wanted not in made and workers.count:
                while workers.idle and begun < count:
                    given[workers.give(begun)] = begun
                    begun += 1
                if not workers.busy:
                    break
                for done in workers.results():
                    piece = given.pop(done.number)
                    if not isinstance(done.error, WorkError):
                        made[piece] = done.value()
            yield made.pop(wanted) if wanted in made else work(wanted)
