"""Who may do what with one path."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from fiat.app.question import Question
from fiat.core.ask.who import Answer
from fiat.core.model.route import Route

if TYPE_CHECKING:
    from fiat.core.ask.effects import Effects


class Who(NamedTuple):
    """The answer for one path; ``against_today`` where memberships are supposed."""

    question: Question
    answer: Answer
    against_today: Effects | None

    @property
    def nobody(self) -> bool:
        """Whether there is a right that was asked for by name and that nobody has who is asked about."""
        answer, shows = self.answer, self.question.shows
        return bool(self.question.asked) and not all(
            any(shows(who) for who in answer.universe.members(answer.allowed[right])) for right in answer.rights
        )


def who(question: Question, route: Route) -> Who:
    """Who may do what at the end of ``route``."""
    rights = question.rights_on(route.end.posture.kind if route.end else None)
    answer = Answer(question.asked_of, route, rights, question.processes)
    against = None
    if question.supposing:
        from fiat.core.ask.effects import effects_at

        against = effects_at(question.host, question.asked_of, route.asked, answer.rights, question.processes)
    return Who(question, answer, against)
