"""Looking: one path, what is in a directory, a whole tree."""

from __future__ import annotations

import errno
from collections.abc import Callable, Hashable, Iterable, Iterator
from itertools import compress
from types import MappingProxyType
from typing import TYPE_CHECKING, NamedTuple

from fiat.app.problems import Note, Problem, raise_problem
from fiat.core.ask import caveats
from fiat.core.ask.remarks import remarks_on
from fiat.core.errors import PathError
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.mode import STICKY
from fiat.core.model.posture import Kind, Object, Posture
from fiat.core.model.route import Route
from fiat.core.text import natural_order
from fiat.core.tree.walk import Trouble, inside, names_in, open_end, walk
from fiat.core.words.selection import Selection
from fiat.host.arrangements import has_own

if TYPE_CHECKING:
    from fiat.app.treelisting import ListedEntries
    from fiat.core.suggest.arranging import Arranged
    from fiat.core.words.arrangements import Known

_STEP = 1000
"""Entries between two reports of progress."""


class Look(NamedTuple):
    """One object with what is to be remarked on it; of a symlink also where it leads, ``target``."""

    object: Object
    remarks: list[Finding]
    target: Route | None = None
    target_remarks: list[Finding] = []  # noqa: RUF012
    arranged: Arranged | None = None

    @property
    def caveats(self) -> list[Finding]:
        """What Fiat does not evaluate here."""
        end = self.target.end if self.target is not None else None
        return [*caveats.of_object(self.object), *(caveats.of_object(end) if end is not None else ())]


def look(host: Host, route: Route, known: Known = MappingProxyType({})) -> Look:
    """What the end of ``route`` says about access, which was walked without following it.

    Of a directory also which of the ``known`` arrangements it is, if any.
    """
    assert route.end is not None
    found = route.end._replace(path=route.asked.rstrip("/") or "/")
    target = walk(host, route.asked) if found.posture.kind is Kind.SYMLINK else None
    beyond = remarks_on(target.end, host.accounts) if target is not None and target.end is not None else []
    as_arranged = None
    if known and found.posture.directory:
        from fiat.app.arrange import arranged

        as_arranged = arranged(host, found, known)
    return Look(found, remarks_on(found, host.accounts), target, beyond, as_arranged)


def may_be_arranged(posture: Posture) -> bool:
    """Whether a directory may be as an arrangement has it, so that it is worth reading these.

    What comes with Fiat leaves others nothing, or is sticky; what others wrote themselves may be anything.
    """
    return posture.directory and bool(not posture.mode & 0o007 or posture.mode & STICKY or has_own())


class Listing(NamedTuple):
    """What is in a directory, in the order that people expect; each object is looked at when it is its turn."""

    top: str
    objects: Iterable[Object]
    host: Host


def listing(
    host: Host,
    route: Route,
    selection: Selection = Selection(),  # noqa: B008
    *,
    problem: Problem = raise_problem,
    note: Note = lambda findings: None,
    progress: Progress = no_progress,
) -> Listing | None:
    """The chosen entries of the directory at the end of ``route``; None where it is no directory.

    What cannot be looked at goes to ``problem``, what is not evaluated to ``note``.
    """
    if not _is_directory(route, problem):
        return None
    return Listing(_top_of(route), _inside(host, route, selection, problem, note, progress), host)


def _top_of(route: Route) -> str:
    assert route.end is not None
    return route.end.path


def _is_directory(route: Route, problem: Problem) -> bool:
    assert route.end is not None
    if not route.end.posture.directory:
        problem(PathError(route.asked, errno.ENOTDIR, "list what is in"))
    return route.end.posture.directory


def _inside(
    host: Host, route: Route, selection: Selection, problem: Problem, note: Note, progress: Progress
) -> Iterator[Object]:
    _, node = open_end(host, route.asked)
    if node is None:
        raise PathError(route.asked, errno.ENOENT, "list what is in")
    troubles: list[Trouble] = []
    kinds: set[Hashable] = set()
    try:
        names = list(names_in(node, troubles))
        names = sorted(compress(names, selection.takes_names(names)), key=natural_order)
        for count, (child, found) in enumerate(inside(node, names, troubles), 1):
            child.close()
            if count % _STEP == 0:
                progress(count, node.path)
            kind = caveats.kind_of(found)
            if kind not in kinds:
                kinds.add(kind)
                note(caveats.of_object(found))
            if selection.takes(found, host.accounts):
                yield found
    finally:
        node.close()
    for trouble in troubles:
        problem(PathError(trouble.path, trouble.errno))


class TreeListing:
    """The tree under a directory; it is read when it is asked for, so that a beginning can be shown before."""

    def __init__(self, top: str, host: Host, read: Callable[[], ListedEntries]) -> None:
        self.top = top
        self.host = host
        self.read = read


def tree_listing(
    host: Host,
    route: Route,
    selection: Selection = Selection(),  # noqa: B008
    *,
    across_mounts: bool = False,
    problem: Problem = raise_problem,
    note: Note = lambda findings: None,
    progress: Progress = no_progress,
    done: Callable[[], None] = lambda: None,
) -> TreeListing | None:
    """The chosen entries of the tree under the end of ``route``; None where it is no directory.

    What cannot be looked at goes to ``problem``, what is not evaluated to
    ``note``; ``done`` is called when all has been read.
    """
    if not _is_directory(route, problem):
        return None

    def read() -> ListedEntries:
        from fiat.app.treelisting import chosen_in, survey_below  # loads NumPy

        survey = survey_below(host, route, across_mounts, progress)
        done()
        return chosen_in(survey, selection.on(host.accounts), problem, note)

    return TreeListing(_top_of(route), host, read)
