"""Looking: one path, what is in a directory, a whole tree."""

import errno
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from fiat.app.problems import Problem, raise_problem
from fiat.core.ask import caveats
from fiat.core.ask.remarks import remarks_on
from fiat.core.errors import PathError
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.kind import Kind
from fiat.core.model.posture import Object
from fiat.core.model.route import Route
from fiat.core.tree.walk import walk
from fiat.core.words.selection import Selection

Note = Callable[[Iterable[Finding]], None]
"""Takes note of what Fiat does not evaluate."""


def of_host(host: Host) -> list[Finding]:
    """What holds for the whole host, and Fiat does not evaluate."""
    return caveats.of_host(host.settings)


def of_route(route: Route) -> list[Finding]:
    """What is not evaluated of anything walked on ``route``, and at its end."""
    return caveats.of_route(route)


class Look(NamedTuple):
    """One object with what is to be remarked on it; of a symlink also where it leads, ``target``."""

    object: Object
    remarks: list[Finding]
    target: Route | None = None
    target_remarks: list[Finding] = []  # noqa: RUF012

    @property
    def caveats(self) -> list[Finding]:
        """What Fiat does not evaluate here."""
        end = self.target.end if self.target is not None else None
        return [*caveats.of_object(self.object), *(caveats.of_object(end) if end is not None else ())]


def look(host: Host, route: Route) -> Look:
    """What the end of ``route`` says about access, which was walked without following it."""
    assert route.end is not None
    found = route.end._replace(path=route.asked.rstrip("/") or "/")
    target = walk(host, route.asked) if found.posture.kind is Kind.SYMLINK else None
    beyond = remarks_on(target.end, host.accounts) if target is not None and target.end is not None else []
    return Look(found, remarks_on(found, host.accounts), target, beyond)


class Listing:
    """What is in a directory, or in the tree under it: as it is read, and in the order that people expect."""

    def __init__(self, top: str, objects: Iterable[Object], host: Host) -> None:
        self.top = top
        self.objects = objects
        self.host = host


def listing(
    host: Host,
    route: Route,
    selection: Selection = Selection(),  # noqa: B008
    *,
    tree: bool = False,
    across_mounts: bool = False,
    problem: Problem = raise_problem,
    note: Note = lambda findings: None,
    progress: Progress = no_progress,
) -> Listing | None:
    """The chosen entries of the directory at the end of ``route``, or of its tree; None where it is no directory.

    What cannot be looked at goes to ``problem``, what is not evaluated to ``note``.
    """
    assert route.end is not None
    if not route.end.posture.directory:
        problem(PathError(route.asked, errno.ENOTDIR, "list what is in"))
        return None
    objects = _objects(host, route, selection, tree, across_mounts, problem, note, progress)
    return Listing(route.end.path, objects, host)


def _objects(
    host: Host,
    route: Route,
    selection: Selection,
    tree: bool,
    across_mounts: bool,
    problem: Problem,
    note: Note,
    progress: Progress,
) -> Iterator[Object]:
    from fiat.core.ask.treecaveats import first_of_each_kind  # loads NumPy
    from fiat.core.tree.extent import Extent
    from fiat.core.tree.reading import survey_at

    extent = Extent(across_mounts=across_mounts, one_level=not tree, details=True)
    _, survey = survey_at(host, route.asked, extent, progress)
    for trouble in survey.troubles:
        problem(PathError(trouble.path, trouble.errno))
    for place in first_of_each_kind(survey):
        if place:
            note(caveats.of_object(survey.object(place)))
    note(caveats.of_mounts_left_out(survey.skipped))
    taken = survey.chosen(selection.on(host.accounts)).tolist()
    for place, path in survey.in_natural_order():
        if taken[place]:
            yield survey.object(place, path)
