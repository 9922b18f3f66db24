"""Restoring: a plan that puts postures back as a snapshot has them."""

from collections.abc import Sequence

from fiat.app.change import Planned, planned_for
from fiat.app.compare import State, comparable
from fiat.app.problems import Problem, raise_problem
from fiat.core.change.target import Target
from fiat.core.errors import PathError
from fiat.core.model.host import Progress, no_progress
from fiat.core.state.comparison import matched
from fiat.core.state.restoring import Left, Only, restoring
from fiat.core.typed import NamedTuple
from fiat.core.words.selection import Selection

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
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Restored:
    """What puts back what ``before`` holds, or ``paths`` of it, on the host ``now``.

    Nothing is written: the plan is one like any other. Raises :class:`SnapshotError`.
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
    for (_, after), compared in zip(trees, [matched(*views, taking) for views in trees], strict=True):
        found = restoring(compared, after.survey, now.host.accounts, only)
        left += found.left
        top = after.survey.top.path
        targets.append(Target(top, after.route, found.survey, found.chosen, True, goals=found.goals))
    return Restored(planned_for(now.host, targets, once, progress, through_flags=through_flags), left)
