"""The host that a command line speaks of, and the paths on it."""

import argparse
import errno
from collections.abc import Iterator

from fiat.cli.parser import SAMPLE
from fiat.core.errors import PathError
from fiat.core.model.host import Host
from fiat.core.text import visible
from fiat.core.tree.route import Route, walk
from fiat.render.report import Report


def open_host(args: argparse.Namespace) -> Host:
    """The host for ``--from`` and ``--accounts``; this one where neither is given."""
    from fiat.host.live.accounts import from_folder

    accounts = from_folder(args.accounts) if args.accounts is not None else None
    if args.snapshot is not None:
        from fiat.demo import sample
        from fiat.host.snapshot import reader as snapshot

        return snapshot.read(sample.SNAPSHOT if args.snapshot == SAMPLE else args.snapshot, accounts)
    from fiat.host.live.host import LiveHost

    return LiveHost(accounts)


def arrive(
    host: Host, paths: list[str], report: Report, *, follow: bool = True, missing: bool = False
) -> Iterator[Route]:
    """The routes to ``paths`` that arrive; the others become problems of ``report``.

    With ``missing``, a path whose last name is not there will do.
    """
    for path in paths:
        if not path:
            report.problem(PathError(path, errno.ENOENT))
            continue
        route = walk(host, path, follow=follow)
        if route.end is None and not (missing and route.missing_in is not None):
            report.problem(failure(route))
        else:
            yield route


def failure(route: Route) -> PathError:
    """The error that says why ``route`` does not arrive."""
    if route.hidden:
        hint = f"Fiat may not look at {route.failed_at} as this user; run it as root"
    elif route.errno == errno.ENOENT and route.failed_at != route.asked:
        hint = f"there is no {route.failed_at}"
    elif route.errno == errno.ENOTDIR:
        hint = f"{route.failed_at} is no directory"
    else:
        hint = ""
    return PathError(route.asked, route.errno, hint=visible(hint))
