"""Asking: who may do what with a path or in a tree, and why."""

import errno
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from fiat.app.problems import failure
from fiat.core.ask import caveats
from fiat.core.ask.effects import Effects, effects_at
from fiat.core.ask.who import Answer
from fiat.core.ask.why import explain
from fiat.core.errors import PathError
from fiat.core.model.accounts import Supposed
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.process import difference
from fiat.core.model.right import ALL, BASIC, CREATE, Right, right_named
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.check import Verdict
from fiat.core.suggest.advice import Advice, advice_on
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.walk import route_for
from fiat.core.words import who as who_words

__all__ = ["RIGHT_NAMES", "Host", "Question", "Who", "Why", "right_named", "who", "why"]

RIGHT_NAMES = tuple(right.name for right in ALL)
"""The names of all rights."""


class Question:
    """What is asked: which rights, of whom, on a host as it is or as if some memberships were others.

    ``host`` is the host as it is, ``asked_of`` the one that is asked. Raises
    :class:`UnknownAccount` or :class:`NotationError` for a wrong word.
    """

    def __init__(
        self,
        host: Host,
        *,
        rights: Iterable[str] = (),
        users: Iterable[str] = (),
        groups: Iterable[str] = (),
        pids: Iterable[int] = (),
        anyone_else: bool = False,
        if_member: Iterable[str] = (),
        if_not_member: Iterable[str] = (),
    ) -> None:
        self.host = host
        self.rights = tuple(dict.fromkeys(map(right_named, rights)))
        self.uids = {host.accounts.user_id(word) for word in users}
        self.gids = {host.accounts.group_id(word) for word in groups}
        self.processes = [host.process(pid) for pid in pids]
        self.anyone_else = anyone_else
        joins = [who_words.membership(word, host) for word in if_member]
        leaves = [who_words.membership(word, host) for word in if_not_member]
        self.supposing = bool(joins or leaves)
        self.asked_of: Host = host
        if self.supposing:
            self.asked_of = HostAsIf(host, Supposition(accounts=Supposed(host.accounts, joins, leaves)))

    @property
    def may_be_missing(self) -> bool:
        """Whether a path that is not there can be asked about."""
        return CREATE in self.rights

    @property
    def names_somebody(self) -> bool:
        """Whether users, groups or anyone else are asked about, and not all of them."""
        return bool(self.uids or self.gids or self.anyone_else)

    def shows(self, principal: Principal) -> bool:
        """Whether the answer for ``principal`` is asked for."""
        if principal.kind == "process" or not (self.names_somebody or self.processes):
            return True
        if principal.kind == "anyone-else":
            return self.anyone_else
        if principal.kind == "user":
            return principal.uid in self.uids
        return principal.kind == "group" and bool(principal.gids & self.gids)

    @property
    def caveats(self) -> list[Finding]:
        """Where the processes that are asked about are not what their accounts say."""
        accounts = self.host.accounts
        return [
            caveat
            for process in self.processes
            for caveat in caveats.of_process(process, difference(process, accounts), accounts)
        ]


class Who(NamedTuple):
    """The answer for one path; ``against_today`` where memberships are supposed."""

    question: Question
    answer: Answer
    against_today: Effects | None


def who(question: Question, route: Route) -> Who:
    """Who may do what at the end of ``route``."""
    answer = Answer(question.asked_of, route, question.rights, question.processes)
    against = None
    if question.supposing:
        against = effects_at(question.host, question.asked_of, route.asked, answer.rights, question.processes)
    return Who(question, answer, against)


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
    route = route_for(host, path, asked)
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
        advice_on(host, principal, verdict) if not verdict.allowed else [],
        found,
        host,
    )


def rights_asked(question: Question) -> Sequence[Right]:
    """The rights that are asked about in a tree."""
    return question.rights or BASIC
