"""Changing a tree so that it is as another one."""

import errno
from collections.abc import Iterable, Iterator, Mapping

import numpy as np

from fiat.app.change import ChangeOptions, Planned, planned_for, targets_of
from fiat.app.hosts import arrive
from fiat.app.problems import Problem, raise_problem
from fiat.core.change.liketree import LikeTree
from fiat.core.change.target import targets_in
from fiat.core.errors import NotationError, OtherNow, PathError
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.posture import Posture
from fiat.core.model.route import lies_under
from fiat.core.text import quoted
from fiat.core.tree.reading import survey_at
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent


def plan_like_tree(
    host: Host,
    paths: Iterable[str],
    like: str,
    how: ChangeOptions,
    *,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Planned:
    """What would make the trees at ``paths`` as the one at ``like``; nothing is written.

    Raises :class:`NotationError` where ``like`` is no directory, or one of the two lies in the other.
    """
    (route,) = arrive(host, [like])
    assert route.end is not None
    if not route.end.posture.directory:
        raise NotationError(
            like, f"{quoted(like)} is no directory: a tree can be like another tree, and no file's mode"
        )
    _, model = survey_at(host, route.asked, Extent(across_mounts=how.across_mounts), progress)
    for trouble in model.troubles:
        problem(PathError(trouble.path, trouble.errno))
    targets = []
    for target in targets_of(host, paths, how, problem, progress):
        survey = target.survey
        if lies_under(survey.top.path, model.top.path) or lies_under(model.top.path, survey.top.path):
            apart = f"{quoted(target.asked)} and {quoted(like)} are not apart: one is in the other"
            raise NotationError(target.asked, apart)
        if not survey.top.posture.directory:
            problem(PathError(target.asked, errno.ENOTDIR, "make a tree like another of"))
            continue
        made = LikeTree(model, survey, host.actor(), host.settings.umask)
        goals = {place: goal for place, goal in made.goals() if target.chosen[place]}
        for error in _two_things_at_once(survey, goals):
            problem(error)
        if goals:
            targets.append(targets_in(survey, target.route, goals, with_tree=True)._replace(asked=target.asked))
        else:
            targets.append(target._replace(chosen=np.zeros(len(survey), np.bool_)))
    return planned_for(host, targets, problem, progress, through_flags=how.through_flags)


def _two_things_at_once(survey: Survey, goals: Mapping[int, Posture]) -> Iterator[PathError]:
    """What has several names that are to be different things: the first of them counts."""
    for places in survey.several_names().values():
        meant = [place for place in places if place in goals]
        for place in meant[1:]:
            if goals[place] != goals[meant[0]]:
                hint = f"it is the same file as {quoted(survey.path(meant[0]))}, which is to be otherwise and counts"
                yield OtherNow(survey.path(place), "make alike", hint)
