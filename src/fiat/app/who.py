"""Who may do what with one path."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from fiat.app.question import Question
from fiat.core.ask.who import Answer
from fiat.core.model.right import Right
from fiat.core.model.route import Route

if TYPE_CHECKING:
    from fiat.app.ownmeans import OwnMeansAnswer
    from fiat.core.ask.acting import ActingAnswer
    from fiat.core.ask.effects import Effects
    from fiat.core.rules.elevation import Matcher


class Who(NamedTuple):
    """The answer for one path; ``against_today`` where memberships are supposed, ``acting`` where it is asked what
    people can do by acting as others, too, ``means`` where it is asked what they can bring about."""

    question: Question
    answer: Answer
    against_today: Effects | None
    acting: ActingAnswer | None = None
    means: OwnMeansAnswer | None = None

    @property
    def nobody(self) -> bool:
        """Whether there is a right that was asked for by name and that nobody has who is asked about."""
        answer, shows = self.answer, self.question.shows
        return bool(self.question.asked) and not all(
            any(shows(who) for who in answer.universe.members(answer.allowed[right])) or self._by_acting(right)
            for right in answer.rights
        )

    def _by_acting(self, right: Right) -> bool:
        found = self.acting
        return found is not None and any(found.elevated(place, right) for place in found.acting)


def who(
    question: Question,
    route: Route,
    matcher: Matcher | None = None,
    *,
    own_means: bool = False,
    through_programs: bool = False,
) -> Who:
    """Who may do what at the end of ``route``; with a ``matcher`` also by acting as others, as its rules let them, and
    with ``own_means`` what they can bring about."""
    rights = question.rights_on(route.end.posture.kind if route.end else None)
    answer = Answer(question.asked_of, route, rights, question.processes)
    against = None
    if question.supposing:
        from fiat.core.ask.effects import effects_at

        against = effects_at(question.host, question.asked_of, route.asked, answer.rights, question.processes)
    acting = None
    if matcher is not None:
        from fiat.core.ask.acting import ActingAnswer

        shown = (place for place, one in enumerate(answer.universe.principals) if question.shows(one))
        acting = ActingAnswer(question.asked_of, answer, matcher, shown)
    means = None
    if own_means:
        from fiat.app.ownmeans import means_of_people

        shown_places = [place for place, one in enumerate(answer.universe.principals) if question.shows(one)]
        means = means_of_people(question.asked_of, answer, shown_places, through_programs=through_programs)
    return Who(question, answer, against, acting, means)
