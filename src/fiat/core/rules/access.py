"""Rules along a route: who may do what, and which check decided.

A right on a path comes down to *checks* in the kernel's order, each with the
set of principals that pass it. The first check that a principal fails
decides, with its errno. Asking about everyone is the intersection; asking
why is the same checks for a universe of one.
"""

from collections.abc import Callable, Iterator

from fiat.core.model.host import Host, Settings
from fiat.core.model.posture import Kind, Object
from fiat.core.model.principals import Universe
from fiat.core.rules import attributes, names, objects
from fiat.core.rules.check import FOLLOW, Check, Context, Step, Verdict
from fiat.core.rules.decision import Decisions
from fiat.core.rules.walking import failure_check, stage_checks
from fiat.core.tree.route import Route, walk

__all__ = ["ALL_RIGHTS", "FOLLOW", "RIGHTS", "Access", "Check", "Step", "Verdict", "applies", "route_for"]

RIGHTS = ("read", "write", "execute", "traverse")
"""The rights of an object, in the order in which they are shown."""

_NAME_CHECKS: dict[str, Callable[[Context, Route, Object | None], Iterator[Check]]] = {
    "create": names.create,
    "delete": names.delete,
    "rename": names.rename,
}
"""These mean something where nothing is there, too: None stands for that."""

_OBJECT_CHECKS: dict[str, Callable[[Context, Route, Object], Iterator[Check]]] = {
    "read": objects.read,
    "write": objects.write,
    "execute": objects.execute,
    "traverse": objects.traverse,
    "list": objects.list_names,
    "change-mode": attributes.change_mode,
    "change-owner": attributes.change_owner,
    "change-group": attributes.change_group,
}

ALL_RIGHTS = (*RIGHTS, "list", *_NAME_CHECKS, "change-mode", "change-owner", "change-group")
"""Every right that can be asked about."""

_OF_THE_NAME = ("delete", "rename")
"""Rights on the name itself: a symlink at the end is not followed for them."""

_IN_A_DIRECTORY = ("write", "create")
"""Rights that on a directory are about the names in it: it is traversed for them."""


def applies(right: str, kind: Kind) -> bool:
    """Whether ``right`` means something on an object of this kind."""
    if right == "execute":
        return kind is Kind.FILE
    if right in ("traverse", "list"):
        return kind is Kind.DIRECTORY
    return kind is not Kind.SYMLINK or right in _OF_THE_NAME


def route_for(host: Host, path: str, right: str) -> Route:
    """The route that the kernel walks when ``right`` is asked of ``path``."""
    if right in _OF_THE_NAME:
        return walk(host, path.rstrip("/") or "/", follow=False)
    route = walk(host, path)
    if right in _IN_A_DIRECTORY and route.end is not None and route.end.posture.directory:
        return walk(host, path, into=True)
    return route


class Access:
    """Access along routes for one universe under one host's settings."""

    def __init__(self, universe: Universe, settings: Settings) -> None:
        self.universe = universe
        self.decisions = Decisions(universe)
        self._context = Context(universe, settings, self.decisions)

    def checks(self, route: Route, right: str) -> Iterator[Check]:
        """All that is checked for ``right``, in the kernel's order."""
        yield from self.stage_checks(route)
        if right in _NAME_CHECKS:
            yield from _NAME_CHECKS[right](self._context, route, route.end)
        elif route.end is None:
            yield failure_check(route, right)
        else:
            yield from _OBJECT_CHECKS[right](self._context, route, route.end)

    def stage_checks(self, route: Route) -> Iterator[Check]:
        """What is checked on the way, before the end."""
        return stage_checks(self._context, route)

    def allowed(self, route: Route, right: str) -> int:
        """The set of principals that have ``right`` at the end of ``route``."""
        return self._passing(self.checks(route, right))

    def reach(self, route: Route) -> int:
        """The set of principals that can walk all of ``route``."""
        return self._passing(self.stage_checks(route))

    def _passing(self, checks: Iterator[Check]) -> int:
        found = self.universe.everyone
        for check in checks:
            found &= check.passers
            if not found:
                break
        return found

    def verdict(self, route: Route, right: str, place: int) -> Verdict:
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
    return Step(check.object, check.path, check.needs, allowed, rule, number, reason, check.script)
