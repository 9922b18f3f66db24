"""What goes wrong at one path among several."""

from __future__ import annotations

import errno
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING

from fiat.core.errors import PathError
from fiat.core.text import visible

if TYPE_CHECKING:
    from fiat.core.model.finding import Finding
    from fiat.core.model.route import Route

Problem = Callable[[PathError], None]
"""Takes note of a path that failed; the others go on."""

Note = Callable[[Iterable["Finding"]], None]
"""Takes note of what Fiat does not evaluate."""


def raise_problem(error: PathError) -> None:
    """Take note of nothing: the first path that fails ends it."""
    raise error


def each_once(problem: Problem, told: Iterable[PathError] = ()) -> Problem:
    """Passes on each problem once, and none of those that were ``told``."""
    known = {(error.path, error.errno) for error in told}

    def once(error: PathError) -> None:
        if (error.path, error.errno) not in known:
            known.add((error.path, error.errno))
            problem(error)

    return once


def failure(route: Route) -> PathError:
    """The error that says why ``route`` does not arrive."""
    if route.hidden and route.errno == errno.ENODATA:
        hint = f"the snapshot holds nothing of {route.failed_at}"
    elif route.hidden:
        hint = f"Fiat may not look at {route.failed_at} as this user; run it as root"
    elif route.errno == errno.ENOENT and route.failed_at != route.asked:
        hint = f"there is no {route.failed_at}"
    elif route.errno == errno.ENOTDIR:
        hint = f"{route.failed_at} is no directory"
    else:
        hint = ""
    return PathError(route.asked, route.errno, hint=visible(hint))
