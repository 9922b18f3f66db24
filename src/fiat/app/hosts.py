"""Opening a host, and arriving at paths on it."""

from __future__ import annotations

import errno
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from fiat.app.problems import Problem, failure, raise_problem
from fiat.core.errors import PathError
from fiat.core.model.host import Host

if TYPE_CHECKING:
    from fiat.core.model.route import Route

SAMPLE = "skerry"
"""The name of the sample host that comes with Fiat."""


def open_host(
    snapshot: str | None = None,
    accounts: str | None = None,
    *,
    incomplete: bool = False,
    accounts_timeout: float | None = None,
) -> Host:
    """This host, or the one in the file ``snapshot`` (:data:`SAMPLE` for the sample host).

    ``accounts`` is a folder with the files passwd and group, in place of the
    host's own accounts; these may take ``accounts_timeout`` seconds in all where a directory server is asked for them
    (5, unless something else is said): what was not told then is unknown. A snapshot that is
    cut short is used as far as it goes if ``incomplete``. Raises :class:`fiat.core.errors.SnapshotError`.
    """
    from fiat.host.accounts.folder import from_folder

    given = from_folder(accounts) if accounts is not None else None
    if snapshot is not None:
        from fiat.demo import sample
        from fiat.host.snapshot import reader

        return reader.read(sample.SNAPSHOTS.get(snapshot, snapshot), given, incomplete=incomplete)
    from fiat.host.live.host import LiveHost

    return LiveHost(given, accounts_timeout)


def arrive(
    host: Host, paths: Iterable[str], problem: Problem = raise_problem, *, follow: bool = True, missing: bool = False
) -> Iterator[Route]:
    """The routes to ``paths`` that arrive.

    With ``missing``, a path whose last name is not there will do. An empty
    path is none: it is most often a variable of a script that was never set.
    """
    from fiat.core.tree.walk import walk

    for path in paths:
        if not path:
            problem(PathError(path, errno.ENOENT))
            continue
        try:
            route = walk(host, path, follow=follow)
        except PathError as error:
            problem(error)
            continue
        if route.end is None and not (missing and route.missing_in is not None):
            problem(failure(route))
        else:
            yield route
