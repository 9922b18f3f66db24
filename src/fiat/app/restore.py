"""Restoring: a plan that puts postures back as a snapshot has them."""

from collections.abc import Mapping, Sequence
from contextlib import closing
from functools import partial
from typing import NamedTuple

from fiat.app.change import Planned, planned_for
from fiat.app.compare import ComparedState, comparable
from fiat.app.problems import Problem, each_once, raise_problem
from fiat.core.change.privilege import Digests, may_come_back
from fiat.core.change.target import Target
from fiat.core.model.host import Progress, no_progress
from fiat.core.state.comparison import matched
from fiat.core.state.openings import opening_more
from fiat.core.state.restoring import LeftObjects as LeftObjects
from fiat.core.state.restoring import RestoreDirection as RestoreDirection
from fiat.core.state.restoring import restoring, without
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Handles
from fiat.core.words.selection import Selection
from fiat.host.image.host import ImageHost


class Restored(NamedTuple):
    """The plan, what it leaves alone, and the paths that it does not make just as they were (``otherwise``)."""

    planned: Planned
    left: list[LeftObjects]
    otherwise: tuple[str, ...] = ()


def restore(
    before: ComparedState,
    now: ComparedState,
    paths: Sequence[str] = (),
    selection: Selection = Selection(),  # noqa: B008
    only: RestoreDirection = RestoreDirection.EVERYTHING,
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
    once = each_once(problem)
    trees = comparable(before, now, paths, problem=once, progress=progress)
    taking = None if selection.everything else selection.on(now.host.accounts)
    targets: list[Target] = []
    left: list[LeftObjects] = []
    otherwise: list[str] = []
    kept = before.host.digests if isinstance(before.host, ImageHost) else {}
    with closing(Handles(now.host)) as handles:
        unchanged = _Unchanged(handles, kept)
        for (then, after), compared in zip(trees, [matched(*views, taking) for views in trees], strict=True):
            same = partial(unchanged, then.survey, after.survey)
            found = restoring(compared, after.survey, now.host.accounts, same, only, privilege=privilege)
            if only is RestoreDirection.LOST:
                found = without(found, opening_more(before.host, now.host, (then, after), compared.matching, found))
            left += found.left
            some = found.otherwise[found.chosen[found.otherwise]]
            otherwise += [path for _, path in found.survey.paths_of(some.tolist())]
            top = after.survey.top.path
            targets.append(Target(top, after.route, found.survey, found.chosen, True, goals=found.goals))
    return Restored(planned_for(now.host, targets, once, progress, through_flags=through_flags), left, tuple(otherwise))


class _Unchanged:
    """Tells of a privileged file whether its privilege may come back, by the digests ``kept`` with the state before."""

    def __init__(self, handles: Handles, kept: Mapping[str, str]) -> None:
        self._handles = handles
        self._kept = kept
        self._digests = Digests()

    def __call__(self, then: Survey, now: Survey, earlier: int, place: int) -> bool:
        """That at the place ``earlier`` then, which is at ``place`` now."""
        had, one = then.object(earlier), now.object(place)

        def digest() -> str:
            return self._digests.at(self._handles, one.path, one.status.identity)

        return may_come_back(one.posture, had.posture, (), self._kept.get(had.path, ""), digest)
