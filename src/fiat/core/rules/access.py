"""Rules along a route: who may do what, and which check decided.

A right on a path comes down to *checks* in the kernel's order, each with the
set of principals that pass it. The first check that a principal fails
decides, with its errno. Asking about everyone is the intersection; asking
why is the same checks for a universe of one.
"""

from collections.abc import Callable, Iterator
from typing import NamedTuple

from fiat.core.model import right as rights
from fiat.core.model.host import Settings
from fiat.core.model.posture import Object
from fiat.core.model.principals import Universe
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.rules import attributes, checks, running
from fiat.core.rules.checks import Check, Context, Step, Verdict, failure_check, stage_checks
from fiat.core.rules.decision import Decisions


class RightChecks(NamedTuple):
    """What the kernel checks for one right.

    ``object`` is what the object at the end asks; ``name`` what the directory that holds its name asks before that;
    ``missing`` what is asked where nothing of that name is there. Rights that go by no name mean nothing there.
    """

    object: Callable[[Context, Route, Object], Iterator[Check]] | None = None
    name: Callable[[Context, Object | None, Object, Right], Iterator[Check]] | None = None
    missing: Callable[[Context, Route, Right], Iterator[Check]] | None = None


_CHECKS: dict[Right, RightChecks] = {
    rights.READ: RightChecks(checks.read),
    rights.WRITE: RightChecks(checks.write),
    rights.EXECUTE: RightChecks(running.execute),
    rights.TRAVERSE: RightChecks(checks.traverse),
    rights.LIST: RightChecks(checks.list_names),
    rights.APPEND: RightChecks(checks.append),
    rights.CREATE: RightChecks(checks.create_in, checks.create_over, checks.create),
    rights.DELETE: RightChecks(None, checks.remove, checks.remove_missing),
    rights.RENAME: RightChecks(None, checks.remove, checks.remove_missing),
    rights.CHANGE_MODE: RightChecks(attributes.change_mode),
    rights.CHANGE_OWNER: RightChecks(attributes.change_owner),
    rights.CHANGE_GROUP: RightChecks(attributes.change_group),
}


def expect_checks_for(right: Right) -> None:
    """Raise KeyError where a right has no check: where nothing is asked, everybody who gets there has it."""
    bound = _CHECKS[right]
    if (bound.object is None) is right.by_object or (bound.name is None or bound.missing is None) is right.by_name:
        raise KeyError(right)


for _right in rights.ALL:
    expect_checks_for(_right)


class Access:
    """Access along routes for one universe under one host's settings."""

    def __init__(self, universe: Universe, settings: Settings) -> None:
        self.universe = universe
        self.settings = settings
        self.decisions = Decisions(universe)
        self._context = Context(universe, settings, self.decisions)

    def checks(self, route: Route, right: Right) -> Iterator[Check]:
        """All that is checked for ``right``, in the kernel's order."""
        yield from self.stage_checks(route)
        if route.end is None:
            missing = _CHECKS[right].missing
            if missing is not None:
                yield from missing(self._context, route, right)
            else:
                yield failure_check(route, right.name)
            return
        yield from self.name_checks(route.parent, route.end, right)
        yield from self.object_checks(route, route.end, right)

    def stage_checks(self, route: Route) -> Iterator[Check]:
        """What is checked on the way, before the end."""
        return stage_checks(self._context, route)

    def name_checks(self, parent: Object | None, named: Object, right: Right) -> Iterator[Check]:
        """What the directory ``parent`` asks, where ``right`` is about the name of ``named`` in it."""
        check = _CHECKS[right].name
        return iter(()) if check is None else check(self._context, parent, named, right)

    def object_checks(self, route: Route, object_: Object, right: Right) -> Iterator[Check]:
        """What the object at the end of ``route`` asks itself."""
        check = _CHECKS[right].object
        return iter(()) if check is None else check(self._context, route, object_)

    def allowed(self, route: Route, right: Right) -> int:
        """The set of principals that have ``right`` at the end of ``route``."""
        return self.passing(self.checks(route, right))

    def reach(self, route: Route) -> int:
        """The set of principals that can walk all of ``route``."""
        return self.passing(self.stage_checks(route))

    def passing(self, checks: Iterator[Check]) -> int:
        """The set of principals that pass all of ``checks``."""
        found = self.universe.everyone
        for check in checks:
            found &= check.passers
            if not found:
                break
        return found

    def verdict(self, route: Route, right: Right, place: int) -> Verdict:
        """The answer for the principal at ``place`` of the universe, step by step."""
        steps = [_step(check, place) for check in self.checks(route, right)]
        for number, step in enumerate(steps):
            if not step.allowed:
                return Verdict(False, step.errno, step, tuple(steps[: number + 1]), tuple(steps[number + 1 :]))
        return Verdict(True, 0, None, tuple(steps), ())


def _step(check: Check, place: int) -> Step:
    allowed = bool(check.passers >> place & 1)
    reason = check.reason(place) if check.reason else None
    rule = reason.rule if reason else check.rule
    number = 0 if allowed else check.errno
    return Step(check.object, check.path, check.needs, allowed, rule, number, reason, check.runs_for, check.want)
