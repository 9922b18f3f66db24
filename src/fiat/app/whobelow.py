"""Asking about whole trees."""

import errno

import numpy as np
from numpy.typing import NDArray

from fiat.app.problems import Problem, raise_problem
from fiat.app.question import Question
from fiat.core.ask import caveats, treeeffects
from fiat.core.ask.effects import Effects, same_people
from fiat.core.ask.treecaveats import first_of_each_kind
from fiat.core.ask.treeeffects import Asking, Pair, View
from fiat.core.ask.who import universe_of
from fiat.core.errors import PathError
from fiat.core.model.finding import Finding
from fiat.core.model.host import Progress, no_progress
from fiat.core.model.principals import Universe
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.tree.answerkeys import Answers
from fiat.core.tree.answers import for_tree
from fiat.core.tree.extent import Extent
from fiat.core.tree.reading import survey_at
from fiat.core.tree.summary import Groups
from fiat.core.tree.survey import Survey
from fiat.core.typed import NamedTuple
from fiat.core.words.selection import Selection


class TreeWho(NamedTuple):
    """The answer for a tree: who has which of ``rights`` on the entries of ``survey`` that are ``taken`` (or all)."""

    question: Question
    route: Route
    survey: Survey
    universe: Universe
    rights: tuple[Right, ...]
    answers: Answers
    taken: NDArray[np.bool_] | None
    against_today: Effects | None
    caveats: list[Finding]

    def groups(self) -> Groups:
        """Equal answers together, the most frequent first."""
        return Groups(self.survey, self.answers, self.taken)


def who_below(
    question: Question,
    route: Route,
    selection: Selection = Selection(),  # noqa: B008
    *,
    across_mounts: bool = False,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> TreeWho:
    """Who may do what with everything at and under the end of ``route``.

    Interrupted (KeyboardInterrupt), it answers for what was read until then,
    which is a ``problem`` as well.
    """
    host = question.seen()
    again, survey = survey_at(host, route.asked, Extent(across_mounts=across_mounts), progress)
    said = [caveat for place in first_of_each_kind(survey) for caveat in caveats.of_object(survey.object(place))]
    said += caveats.of_mounts_left_out(survey.skipped)
    for trouble in survey.troubles:
        problem(PathError(trouble.path, trouble.errno))
    if not survey.complete:
        said += caveats.of_stopping(survey.top.path, len(survey))
        problem(PathError(survey.top.path, errno.EINTR, "read all of"))
    postures = [found.posture for found in again.objects]
    universe = universe_of(host.accounts, postures, question.processes, profiles=[survey.profiles])
    rights = tuple(question.rights_in_a_tree)
    access = for_tree(host, universe, rights, again, survey)
    answers = access.answers(survey, again)
    said += [caveat for found in access.interpreters for caveat in caveats.of_route(found)]
    taken = None if selection.everything else survey.chosen(selection.on(host.accounts))
    against = None
    if question.supposing:
        view = View(again, survey)
        today = universe_of(question.host.accounts, postures, question.processes, profiles=[survey.profiles])
        both = same_people(today, universe)
        against = treeeffects.effects(Asking(question.seen(today=True), host, both, rights), [Pair(view, view)])
    return TreeWho(question, again, survey, universe, rights, answers, taken, against, said)
