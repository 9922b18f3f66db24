"""Why somebody may now, or may no longer: the first check that goes another way than it did, and what differs there.

The checks are the kernel's, in its order (:mod:`fiat.core.rules.access`). Whoever gains
a right was stopped by one of them before; whoever loses it is stopped by one now.
What differs at the object of that check is the cause.
"""

from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.ask.treeeffects import View
from fiat.core.model.posture import Object
from fiat.core.model.right import CREATE, EXECUTE, WRITE, Right
from fiat.core.model.route import Route
from fiat.core.rules.checks import Check
from fiat.core.rules.decision import Decisions
from fiat.core.tree.answers import TreeAccess
from fiat.core.tree.inside import RoutesInside


class Cause(NamedTuple):
    """What made the difference, at ``path``.

    ``kind`` is posture (``before`` and ``after`` differ there), membership (the people have other
    groups), mount (its options), moved, replaced, program (it is run with something else, or is another program),
    way (another object is walked there), settings, or other.
    """

    kind: str
    path: str
    before: Object | None = None
    after: Object | None = None


class Side:
    """One of the two states: its tree, and who may do what in it. Remembers what was looked at."""

    def __init__(self, view: View, answers: TreeAccess) -> None:
        self.view = view
        self.answers = answers
        self.decisions = Decisions(answers.access.universe)
        self._inside = RoutesInside(view.route, view.survey)

    def route(self, place: int, right: Right) -> Route:
        """The route to an entry, as the kernel walks it when ``right`` is asked of it."""
        found = self._inside.to(place, into=right in (WRITE, CREATE))
        end = found.end
        if right is EXECUTE and end is not None and end.program is not None:
            return found._replace(interpreter=self.answers.runs_with(end.program))
        return found

    def checks(self, place: int, right: Right) -> list[Check]:
        """All that is checked for ``right`` of the entry."""
        return list(self.answers.access.checks(self.route(place, right), right))


OTHER = Cause("other", "")
"""That which nobody has looked for, or which is nothing that is checked."""


class CauseQuestion(NamedTuple):
    """A right that some of those in ``bits`` gained, or lost, on an entry: by its places before and after."""

    before: int
    after: int
    right: Right
    bits: int
    gained: bool
    moved: bool = False


def causes(before: Side, after: Side, asked: CauseQuestion, regrouped: int) -> Iterator[tuple[int, Cause]]:
    """Those who gained, or lost, the right, each with the cause; ``regrouped`` are in other groups than before."""
    stopped, free = (before, after) if asked.gained else (after, before)
    place, other = (asked.before, asked.after) if asked.gained else (asked.after, asked.before)
    bits = asked.bits
    twins: dict[str, Object] | None = None
    for check in stopped.checks(place, asked.right):
        some = bits & ~check.passers
        if not some:
            continue
        bits &= check.passers
        by_groups = 0
        if check.object is not None and check.want:  # the other groups alone do it
            by_groups = some & regrouped & free.decisions.of(check.object.posture).allowed(check.want)
        if by_groups:
            yield by_groups, Cause("membership", check.path)
        if some & ~by_groups:
            if twins is None:
                twins = {one.path: one for one in _walked(free.route(other, asked.right))}
            twin = twins.get(check.path)
            pair = check.object, twin
            was, now = pair if asked.gained else pair[::-1]
            kind = "moved" if twin is None and asked.moved else _differs(was, now)
            yield some & ~by_groups, Cause(kind, check.path, was, now)
        if not bits:
            return
    yield bits, OTHER


def _walked(route: Route | None) -> Iterator[Object]:
    """Everything on a route, and on those to what it is run with."""
    while route is not None:
        yield from route.objects
        route = route.interpreter


def _differs(before: Object | None, after: Object | None) -> str:
    if before is None or after is None:
        return "way"
    if before.posture != after.posture:
        return "posture"
    if _options(before) != _options(after):
        return "mount"
    if not before.status.identity.same_as(after.status.identity):
        return "replaced"
    if before.program != after.program:
        return "program"
    return "other"


def _options(one: Object) -> tuple[object, ...]:
    return () if one.mount is None else (one.mount.options, one.mount.filesystem_options, one.mount.type)
