"""Restoring: a plan that puts postures back as a snapshot has them."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress

from fiat.app.change import Planned, planned_for
from fiat.app.compare import State, comparable
from fiat.app.problems import Problem, raise_problem
from fiat.core.change.privilege import Digests
from fiat.core.change.target import Target
from fiat.core.errors import PathError
from fiat.core.model.host import Host, Node, Progress, no_progress
from fiat.core.state.comparison import matched
from fiat.core.state.restoring import Left, Only, restoring
from fiat.core.tree.handles import Handles
from fiat.core.tree.survey import Survey
from fiat.core.typed import NamedTuple
from fiat.core.words.selection import Selection
from fiat.host.image.host import ImageHost

__all__ = ["Left", "Only", "Restored", "restore"]


class Restored(NamedTuple):
    """The plan, and what it leaves alone."""

    planned: Planned
    left: list[Left]


def restore(
    before: State,
    now: State,
    paths: Sequence[str] = (),
    selection: Selection = Selection(),  # noqa: B008
    only: Only = Only.EVERYTHING,
    *,
    through_flags: bool = False,
    privilege: bool = False,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Restored:
    """What puts back what ``before`` holds, or ``paths`` of it, on the host ``now``.

    Set-id bits and capabilities come back on contents that nobody else could have changed, by the digest that the
    snapshot has, or where their ``privilege`` was accepted. Nothing is written: the plan is one like any other. Raises
    :class:`SnapshotError`.
    """
    told: set[tuple[str, int]] = set()

    def once(error: PathError) -> None:
        if (error.path, error.errno) not in told:
            told.add((error.path, error.errno))
            problem(error)

    trees = comparable(before, now, paths, problem=once, progress=progress)
    taking = None if selection.everything else selection.on(now.host.accounts)
    targets: list[Target] = []
    left: list[Left] = []
    digests, kept = Digests(), before.host.digests if isinstance(before.host, ImageHost) else {}
    for (then, after), compared in zip(trees, [matched(*views, taking) for views in trees], strict=True):

        def unchanged(earlier: int, place: int, then: Survey = then.survey, survey: Survey = after.survey) -> bool:
            one, had = survey.object(place), then.object(earlier)
            with suppress(OSError), _opened(now.host, one.path) as node:
                if node.glance().identity.same_as(one.status.identity):
                    return digests.unchanged(node, one.posture, had.posture, (), kept.get(had.path, ""))
            return False

        found = restoring(compared, after.survey, now.host.accounts, unchanged, only, privilege=privilege)
        left += found.left
        top = after.survey.top.path
        targets.append(Target(top, after.route, found.survey, found.chosen, True, goals=found.goals))
    return Restored(planned_for(now.host, targets, once, progress, through_flags=through_flags), left)


@contextmanager
def _opened(host: Host, path: str) -> Iterator[Node]:
    """What is at the real ``path``."""
    handles = Handles(host)
    try:
        node = handles.open(path)
        try:
            yield node
        finally:
            node.close()
    finally:
        handles.close()
