"""One verdict, and what decides it."""

from __future__ import annotations

import errno
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from fiat.app import unevaluated
from fiat.app.problems import failure
from fiat.core.ask import caveats
from fiat.core.ask.why import explain
from fiat.core.errors import PathError
from fiat.core.model import mode
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.posture import Kind
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import ALL, READ, WRITE, Right
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.checks import Verdict
from fiat.core.rules.decision import Decision
from fiat.core.text import visible
from fiat.core.tree.walk import route_for, walk
from fiat.core.words import who as who_words
from fiat.core.words.who import Asked, on_kind, parse_rights

if TYPE_CHECKING:
    from fiat.app.ownmeans import Chain
    from fiat.core.ask.acting import Acting
    from fiat.core.ask.ownmeans import OwnMeans
    from fiat.core.model.wish import Advice
    from fiat.core.rules.elevation import Matcher
    from fiat.core.suggest.advice import Asking

RIGHT_NAMES = tuple(right.name for right in ALL)
"""The names of all rights."""


class Why(NamedTuple):
    """One verdict, with what it means, what would have to change, and what was not evaluated.

    ``apart`` tells that reading and writing are allowed by different entries, so that opening for both at once fails,
    ``open`` that groups which are not known would decide otherwise than the verdict, which goes by those that are.
    ``acting`` is as whom they have it where they have it not as themselves: the verdict is that of ``who`` then, the
    account that is acted as by ``asker``. ``perhaps`` are accounts that have it, and that they act as for certain
    commands alone.
    """

    who: Principal
    right: Right
    route: Route
    verdict: Verdict
    explained: list[str]
    advice: list[Advice]
    caveats: list[Finding]
    host: Host
    apart: bool = False
    open: bool = False
    acting: Acting | None = None
    asker: Principal | None = None
    perhaps: tuple[Acting, ...] = ()
    means: tuple[OwnMeans, ...] | None = None
    chain: Chain | None = None


def why(host: Host, who: str | Principal, right: str | Right, path: str) -> Why:
    """May ``who`` do ``right`` to ``path``, and what decides.

    ``who`` is a user name, ``uid:N``, ``group:NAME``, ``pid:N``, ``anyone-else`` or
    ``self``. Raises :class:`PathError` where Fiat's own sight ends before the answer.
    """
    return why_each(host, who, [(right,)] if isinstance(right, Right) else parse_rights([right]), path)[0]


def why_each(
    host: Host,
    who: str | Principal,
    rights: Sequence[Asked],
    path: str,
    matcher: Matcher | None = None,
    *,
    own_means: bool = False,
    through_programs: bool = False,
) -> list[Why]:
    """The verdicts for several rights at one path, each asked alone; x is traverse on a directory, and else execute.

    With a ``matcher``, what is not theirs they may have by acting as somebody else; with ``own_means``, it is told what
    they can bring about.
    """
    principal = who_words.parse(who, host) if isinstance(who, str) else who
    if not path:
        raise PathError(path, errno.ENOENT)
    seen = host.seen_by(principal)
    kind: Kind | None = None
    if any(len(one) > 1 for one in rights):
        end = walk(seen, path).end
        kind = None if end is None else end.posture.kind
    found = [_why(host, seen, principal, on_kind(one, kind), path) for one in rights]
    if matcher is not None:
        found = [_by_acting(host, one, path, matcher) for one in found]
    if own_means:
        from fiat.app.ownmeans import means_of

        found = [
            one
            if one.verdict.allowed or one.acting is not None
            else one._replace(means=tuple(means_of(host, one.who, one.right, path)))
            for one in found
        ]
    if through_programs:
        from fiat.app.ownmeans import chain_of

        found = [
            one if one.verdict.allowed or one.means else one._replace(chain=chain_of(host, one.who, one.right, path))
            for one in found
        ]
    allowed = {one.right: one for one in found if one.verdict.allowed and not one.open}
    if READ in allowed and WRITE in allowed and _apart(principal, allowed[WRITE]):
        found[found.index(allowed[WRITE])] = allowed[WRITE]._replace(apart=True)
    return found


def _by_acting(host: Host, found: Why, path: str, matcher: Matcher) -> Why:
    """The verdict where they act as another account, if that has the right and they have not."""
    from fiat.core.ask.acting import acting
    from fiat.core.model.principals import account_of

    account = account_of(found.who, host.accounts) if found.who.kind == "user" else None
    if account is None or (found.verdict.allowed and not found.open):
        return found
    perhaps = []
    for one in acting(account, matcher):
        as_other = _why(host, host, one.who, found.right, path)
        if as_other.verdict.allowed and not as_other.open:
            if one.wholly:
                caveats_of_both = [*found.caveats, *(each for each in as_other.caveats if each not in found.caveats)]
                return as_other._replace(acting=one, asker=found.who, caveats=caveats_of_both)
            perhaps.append(one)
    return found._replace(perhaps=tuple(perhaps))


def _apart(principal: Principal, found: Why) -> bool:
    """Whether no entry lets ``principal`` open the end for reading and writing at once; each alone is allowed."""
    end = found.route.end
    if end is None or end.posture.directory:
        return False
    return not Decision(end.posture, Universe([principal])).allowed(mode.READ | mode.WRITE)


def _why(host: Host, seen: Host, principal: Principal, asked: Right, path: str) -> Why:
    route = route_for(seen, path, asked)

    def ask(who: Principal) -> Verdict:
        return Access(Universe([who]), host.settings).verdict(route, asked, 0)

    verdict = ask(principal)
    if route.hidden and verdict.blocker is verdict.steps[-1] and verdict.blocker.object is None:
        raise failure(route)  # what holds for this principal there is not known
    is_open = principal.unsure and _is_open(host, principal, route, asked)
    found: list[Finding] = []
    if principal.kind == "process":
        from fiat.core.model.process import difference

        found += caveats.of_process(principal, difference(principal, host.accounts), host.accounts)
    found += [*caveats.of_route(route), *unevaluated.of_host(host)]
    return Why(
        principal,
        asked,
        route,
        verdict,
        explain(principal, verdict, route.end, host.accounts),
        _advice(host, seen, principal, verdict, ask) if not verdict.allowed and not is_open else [],
        found,
        host,
        open=is_open,
    )


def _is_open(host: Host, principal: Principal, route: Route, asked: Right) -> bool:
    """Whether groups that are not known would decide otherwise."""
    from fiat.core.ask.who import groups_on
    from fiat.core.rules.unsure import possible

    def allowed(universe: Universe) -> int:
        return Access(universe, host.settings).allowed(route, asked)

    return bool(possible(Universe([principal]), groups_on([route]), allowed).open)


def _advice(host: Host, seen: Host, who: Principal, verdict: Verdict, ask: Asking) -> list[Advice]:
    """What would have to change; no command line for what is elsewhere for Fiat than for the process that was asked."""
    from fiat.core.suggest.advice import advice_on  # most of what is loaded for an answer, and only for a no

    found = advice_on(seen, who, verdict, ask)
    if seen is host and host.accounts.view is None:
        return found
    return [
        advice if advice.wish is None or _is_here(host, seen, advice.path) else _in_words(advice) for advice in found
    ]


def _same_object(host: Host, seen: Host, path: str) -> bool:
    one, other = walk(host, path).end, walk(seen, path).end
    return one is not None and other is not None and one.status.identity.same_as(other.status.identity)


def _is_here(host: Host, seen: Host, path: str) -> bool:
    """Whether Fiat finds the same object at a path: a container's are its own."""
    return host.accounts.view is None and _same_object(host, seen, path)


def _in_words(advice: Advice) -> Advice:
    at = f"changing what is found there at {visible(advice.path)}, which is not there for Fiat"
    return advice._replace(effect=f"{advice.effect}, {at}", wish=None)
