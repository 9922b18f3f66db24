"""Asking about whole trees."""

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.app.problems import Problem, raise_problem
from fiat.app.question import Question
from fiat.core.ask import caveats, treeeffects
from fiat.core.ask.effects import Effects, same_people
from fiat.core.ask.treecaveats import first_of_each_kind
from fiat.core.ask.treeeffects import Asker, Pair, View
from fiat.core.ask.who import universe_of
from fiat.core.errors import Interrupted, PathError
from fiat.core.model.finding import Finding
from fiat.core.model.host import Progress, no_progress
from fiat.core.model.principals import Universe
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.text import several
from fiat.core.tree.answerkeys import Answers
from fiat.core.tree.answers import for_tree
from fiat.core.tree.reading import survey_at
from fiat.core.tree.summary import ByOwner, Groups, Topmost, topmost
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent
from fiat.core.words import naming
from fiat.core.words.selection import Selection


class TreeWho(NamedTuple):
    """The answer for a tree: who has which of ``rights`` on the entries of ``survey`` that are ``taken`` (or all).

    Where one right is asked about of somebody named, or only where more than so many users have it,
    these are the entries on which that is so; ``meant`` are all that were asked about.
    """

    question: Question
    route: Route
    survey: Survey
    universe: Universe
    rights: tuple[Right, ...]
    answers: Answers
    taken: NDArray[np.bool_] | None
    meant: NDArray[np.bool_] | None
    against_today: Effects | None
    caveats: list[Finding]
    own_means: bool = False

    def groups(self) -> Groups:
        """Equal answers together, the most frequent first."""
        return Groups(self.survey, self.answers, self.taken)

    def by_owner(self) -> ByOwner:
        """Answers that are the same but for owner and owning group together."""
        return ByOwner(self.survey, self.answers, self.universe, self.taken)

    def topmost(self) -> Iterator[Topmost]:
        """The topmost entries that stand for all that are taken; what the right does not apply to does not count."""
        survey, keys = self.survey, self.answers.keys
        applies: NDArray[np.bool_] = np.any(keys.numbers >= 0, axis=1)
        means = applies[self.answers.number]
        meant = means if self.meant is None else means & self.meant
        return topmost(survey, meant, meant if self.taken is None else self.taken)

    @property
    def nobody(self) -> bool:
        """Whether there is a right that was asked for by name and that nobody has anywhere who is asked about."""
        asked = self.question.asked
        among = 0
        for place, who in enumerate(self.universe.principals):
            among |= self.question.shows(who) << place
        used = np.zeros(len(self.answers.keys), np.bool_)
        used[self.answers.number if self.taken is None else self.answers.number[self.taken]] = True
        return bool(asked) and not all(
            any((self.answers.keys.holding(among, self.rights.index(right)) & used).any() for right in one)
            for one in asked
        )


def who_below(
    question: Question,
    route: Route,
    selection: Selection = Selection(),  # noqa: B008
    *,
    across_mounts: bool = False,
    more_than: int | None = None,
    own_means: bool = False,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> TreeWho:
    """Who may do what with everything at and under the end of ``route``.

    With ``more_than``, only what more than so many users may do it with; with ``own_means`` what people can bring about
    counts as what they may.

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
        problem(Interrupted(survey.top.path))
    postures = [found.posture for found in again.objects]
    universe = universe_of(host.accounts, postures, question.processes, profiles=[survey.profiles])
    rights = tuple(question.rights_in_a_tree)
    access = for_tree(host, universe, rights, again, survey)
    if own_means:
        from fiat.core.ask.treemeans import by_own_means

        answers = by_own_means(host, universe, rights, again, survey)
    else:
        answers = access.answers(survey, again)
    said += [caveat for found in access.interpreters for caveat in caveats.of_route(found)]
    said += _of_open(universe, answers)
    meant = None if selection.everything else survey.chosen(selection.on(host.accounts))
    taken = meant
    if len(question.asked) == 1 and (question.names_somebody or more_than is not None):
        taken = _granting(question, universe, answers, more_than)
        taken = taken if meant is None else taken & meant
    against = None
    if question.supposing:
        view = View(again, survey)
        today = universe_of(question.host.accounts, postures, question.processes, profiles=[survey.profiles])
        both = same_people(today, universe)
        against = treeeffects.effects(Asker(question.seen(today=True), host, both, rights), [Pair(view, view)])
    return TreeWho(question, again, survey, universe, rights, answers, taken, meant, against, said, own_means)


def _of_open(universe: Universe, answers: Answers) -> list[Finding]:
    """Of whom it is not known what they may do, and on how many paths."""
    people, some = 0, np.zeros(len(answers.keys), np.bool_)
    for place in range(len(answers.keys) if universe.unsure else 0):
        for bits in answers.keys.open(place):
            people |= bits or 0
            some[place] |= bool(bits)
    if not people:
        return []
    who = several([naming.principal(one) for one in universe.members(people)], "users")
    text = f"on {int(some[answers.number].sum()):,} of these paths it is not known whether more is allowed to {who}"
    return [Finding("groups-not-known", "odd", f"{text}: a source of accounts did not tell their groups")]


def _granting(question: Question, universe: Universe, answers: Answers, more_than: int | None) -> NDArray[np.bool_]:
    """For each entry, whether anybody who is named has the right there, and nobody of those who are left out; and
    whether more users than so many have it."""
    among = without = 0
    for place, who in enumerate(universe.principals):
        among |= question.shows(who) << place
        without |= question.leaves_out(who) << place
    keys = answers.keys
    grants = np.zeros(len(keys), np.bool_)
    for right in range(keys.numbers.shape[1]):
        found = keys.holding(among, right)
        found &= ~keys.holding(without, right)
        grants |= found if more_than is None else found & keys.held_by_more(universe.of_kind("user"), right, more_than)
    return grants[answers.number]
