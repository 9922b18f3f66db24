"""One verdict, and what decides it."""

import errno

from fiat.app.problems import failure
from fiat.core.ask import caveats
from fiat.core.ask.why import explain
from fiat.core.errors import PathError
from fiat.core.model.advice import Advice
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.process import difference
from fiat.core.model.right import ALL, Right, right_named
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.check import Verdict
from fiat.core.text import visible
from fiat.core.tree.walk import route_for, walk
from fiat.core.typed import NamedTuple
from fiat.core.words import who as who_words

__all__ = ["RIGHT_NAMES", "Why", "right_named", "why"]

RIGHT_NAMES = tuple(right.name for right in ALL)
"""The names of all rights."""


class Why(NamedTuple):
    """One verdict, with what it means, what would have to change, and what was not evaluated."""

    who: Principal
    right: Right
    route: Route
    verdict: Verdict
    explained: list[str]
    advice: list[Advice]
    caveats: list[Finding]
    host: Host


def why(host: Host, who: str | Principal, right: str | Right, path: str) -> Why:
    """May ``who`` do ``right`` to ``path``, and what decides.

    ``who`` is a user name, ``uid:N``, ``group:NAME``, ``pid:N``, ``anyone-else`` or
    ``self``. Raises :class:`PathError` where Fiat's own sight ends before the answer.
    """
    asked = right_named(right) if isinstance(right, str) else right
    principal = who_words.parse(who, host) if isinstance(who, str) else who
    if not path:
        raise PathError(path, errno.ENOENT)
    seen = host.seen_by(principal)
    route = route_for(seen, path, asked)
    verdict = Access(Universe([principal]), host.settings).verdict(route, asked, 0)
    if route.hidden and verdict.blocker is verdict.steps[-1] and verdict.blocker.object is None:
        raise failure(route)  # what holds for this principal there is not known
    found: list[Finding] = []
    if principal.kind == "process":
        found += caveats.of_process(principal, difference(principal, host.accounts), host.accounts)
    found += [*caveats.of_route(route), *caveats.of_host(host.settings)]
    return Why(
        principal,
        asked,
        route,
        verdict,
        explain(principal, verdict, route.end, host.accounts),
        _advice(host, seen, principal, verdict) if not verdict.allowed else [],
        found,
        host,
    )


def _advice(host: Host, seen: Host, who: Principal, verdict: Verdict) -> list[Advice]:
    """What would have to change; no command line for what is elsewhere for Fiat than for the process that was asked."""
    from fiat.core.suggest.advice import advice_on  # most of what is loaded for an answer, and only for a no

    found = advice_on(seen, who, verdict)
    if seen is host:
        return found
    return [
        advice if advice.wish is None or _same_object(host, seen, advice.path) else _in_words(advice)
        for advice in found
    ]


def _same_object(host: Host, seen: Host, path: str) -> bool:
    one, other = walk(host, path).end, walk(seen, path).end
    return one is not None and other is not None and one.status.identity.same_as(other.status.identity)


def _in_words(advice: Advice) -> Advice:
    at = f"changing what the process finds at {visible(advice.path)}, which is not there for Fiat"
    return advice._replace(effect=f"{advice.effect}, {at}", wish=None)
