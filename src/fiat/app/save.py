"""Saving: everything the questions need of some trees, in a file that every command takes for a host."""

import errno
import os
from collections.abc import Iterable
from datetime import UTC, datetime
from typing import NamedTuple, TextIO

from fiat.app.problems import Problem, raise_problem
from fiat.core.errors import ElevationError, Interrupted, PathError
from fiat.core.model.elevation import Elevations
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.state.capture import Capture, capture
from fiat.host.snapshot import files, folder, writing
from fiat.host.snapshot.records import Header


class Destination(NamedTuple):
    """Where a snapshot goes: into the file ``path``, or one more in ``folder``, or to what takes its lines.

    Of those in the folder the last ``keep`` stay; all where that is None.
    """

    path: str | None = None
    folder: str | None = None
    keep: int | None = None
    stream: TextIO | None = None


class Saved(NamedTuple):
    """What was saved, at ``path`` (None where a stream took it) with so many bytes; the snapshots that were removed,
    and those that bear later dates.
    """

    capture: Capture
    path: str | None
    size: int
    removed: list[str]
    ahead: list[str]


def save(
    host: Host,
    paths: Iterable[str],
    into: Destination,
    *,
    across_mounts: bool = False,
    for_audit: bool = False,
    elevation: str | None = None,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Saved | None:
    """Save the trees at ``paths``; None, and nothing is written, where none of them is there or reading was stopped.

    What could not be looked at in them is a ``problem``, and saved as that. ``for_audit``, what an audit asks besides
    is looked into, and kept. The rules by which users act as others are kept where they can be read, or those in the
    file ``elevation``.
    """
    taken = datetime.now(UTC)
    found = capture(host, paths, across_mounts=across_mounts, problem=problem, progress=progress)
    for trouble in (one for tree in found.trees for one in tree.troubles):
        problem(PathError(trouble.path, trouble.errno))
    if not found.complete:
        problem(Interrupted(found.trees[-1].top.path, hint="nothing was saved"))
        return None
    if not found.trees:
        return None
    audit = None
    if for_audit:
        from fiat.app.audit import evidence_of
        from fiat.core.audit.examine import kept

        audit = kept(host, found.trees, evidence_of(host))
        for unread in audit.unread:
            problem(PathError(unread.path, unread.errno, "look into", "what it holds is not known"))
    lines = writing.lines(found, taken.strftime("%Y-%m-%dT%H:%M:%SZ"), audit, _rules(host, elevation))
    if into.stream is not None:
        into.stream.writelines(lines)
        return Saved(found, None, 0, [], [])
    place = into.folder or into.path or ""
    try:
        if into.folder is not None:
            return _added(found, into.folder, taken, lines, into.keep, problem)
        return Saved(found, place, files.write(place, lines), [], [])
    except OSError as error:
        number = error.errno or errno.EIO
        own = error.strerror or ""
        problem(PathError(place, number, "save to", own if own != os.strerror(number) else ""))
        return None


def _rules(host: Host, file: str | None) -> Elevations | None:
    from fiat.app.elevation import elevations_of

    try:
        found = elevations_of(host, file)
    except ElevationError:
        if file is not None:
            raise
        return None
    return found if found.json else None


def _added(
    found: Capture, place: str, taken: datetime, lines: Iterable[str], keep: int | None, problem: Problem
) -> Saved:
    """Save one more into the folder at ``place``."""

    def of_same(header: Header) -> bool:
        return header.host == found.host and set(header.trees) == {tree.top.path for tree in found.trees}

    added = folder.add(place, taken, lines, keep, of_same)
    if added.failed is not None:
        problem(PathError(place, added.failed.errno or errno.EIO, "remove older snapshots from", "this one was saved"))
    return Saved(found, added.path, added.size, added.removed, added.ahead)
