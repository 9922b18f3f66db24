"""What is made later in directories: by whom, under which umask, and what a change of their default lists moves there.

Source: open(2), mkdir(2), acl(5), "OBJECT CREATION AND DEFAULT ACLs".
"""

from collections.abc import Callable, Sequence
from functools import reduce
from operator import and_
from typing import NamedTuple

from fiat.core.change.plan import Plan
from fiat.core.model import right as rights
from fiat.core.model.host import Host
from fiat.core.model.mode import EXECUTE, READ, WRITE
from fiat.core.model.posture import Kind, Mount, Posture
from fiat.core.model.principals import Principal, Universe, account_of, of_accounts
from fiat.core.model.route import Route
from fiat.core.model.umask import DIRECTORIES, FILES
from fiat.core.rules.access import Access
from fiat.core.rules.decision import Decisions, superuser
from fiat.core.rules.inheritance import Creation, hands_on_group, made
from fiat.core.tree.walk import walk

_MADE_OF = ((Kind.FILE, FILES, (READ, WRITE)), (Kind.DIRECTORY, DIRECTORIES, (READ, WRITE, EXECUTE)))
"""What is made, which mode programs ask for then, and which permissions are compared."""

_MAKERS = 24
"""Of makers whose things differ, so many are looked at."""


class Maker(NamedTuple):
    """Somebody who makes things, whose own group is ``gid``, under the ``umask`` of their login."""

    who: Principal
    gid: int
    umask: int


class LaterShift(NamedTuple):
    """Who gains and who loses on what is made later: by the words for them, and users by permissions in all."""

    gained: int = 0
    lost: int = 0
    gaining: tuple[Principal, ...] = ()
    losing: tuple[Principal, ...] = ()


class Makers:
    """Who makes things in the directories of one host."""

    def __init__(self, host: Host, everyone: Universe | None = None) -> None:
        self._host = host
        self.everyone = of_accounts(host.accounts) if everyone is None else everyone
        self._access = Access(self.everyone, host.settings)
        self._decisions = Decisions(self.everyone)
        self._umasks: dict[str, int] = {}
        self._logins = host.logins()
        self._reach: dict[str, int] = {}
        self._masks: dict[tuple[str, Posture], int] = {}

    def of(self, route: Route, posture: Posture) -> list[Maker]:
        """Those who may add names in a directory of this ``posture`` at the end of ``route``, or below it; root where
        nobody else may."""
        top = route.asked
        if top not in self._reach:
            self._reach[top] = self._access.allowed(route, rights.TRAVERSE)
        bits = self._reach[top] & self._decisions.of(posture).allowed(WRITE | EXECUTE)
        users = [who for who in self.everyone.members(bits) if who.kind == "user"]
        found = []
        for who in [who for who in users if not superuser(who)] or users:
            account = account_of(who, self._host.accounts)
            gid = account.gid if account is not None else min(who.gids, default=0)
            found.append(Maker(who, gid, self._umask(who)))
        return found

    def umask(self, route: Route, posture: Posture) -> int:
        """What the umasks of all who make things there take: nobody's are given less by this one."""
        key = route.asked, posture
        if key not in self._masks:
            found = [maker.umask for maker in self.of(route, posture)]
            self._masks[key] = reduce(and_, found) if found else self._host.settings.umask
        return self._masks[key]

    def _umask(self, who: Principal) -> int:
        account = account_of(who, self._host.accounts)
        if account is None:
            return self._host.settings.umask
        if account.name not in self._umasks:
            self._umasks[account.name] = self._logins.of(account).mask
        return self._umasks[account.name]

    # --- what moves ---

    def shifts(self, plan: Plan, counts: Callable[[Principal], bool]) -> LaterShift:
        """What the default lists that a plan changes move on what is made there later, for those who count."""
        seen: dict[tuple[Principal, int, bool], int] = {}
        examples = plan.examples()
        for number, planned in enumerate(plan.changes):
            change, path = planned.change, examples.get(number)
            if path is None or change.before.default == change.after.default or not change.before.directory:
                continue
            route = walk(self._host, path)
            mount = route.end.mount if route.end is not None else None
            makers = self.of(route, change.before)
            reach = self._access.allowed(route, rights.TRAVERSE), self._reach_as(route, change.after)
            for key in self._moved(change.before, change.after, mount, makers, *reach):
                seen[key] = seen.get(key, 0) + 1
        gaining = tuple(dict.fromkeys(who for who, _, gains in seen if gains and counts(who)))
        losing = tuple(dict.fromkeys(who for who, _, gains in seen if not gains and counts(who)))
        return LaterShift(
            sum(1 for who, _, gains in seen if gains and counts(who)),
            sum(1 for who, _, gains in seen if not gains and counts(who)),
            gaining,
            losing,
        )

    def _reach_as(self, route: Route, after: Posture) -> int:
        """Who gets into the directory at the end of a route, once that is as it is ``after``."""
        end = route.end
        if end is None:
            return 0
        return self._access.allowed(route._replace(end=end._replace(posture=after)), rights.TRAVERSE)

    def _moved(
        self,
        before: Posture,
        after: Posture,
        mount: Mount | None,
        makers: Sequence[Maker],
        got_there: int,
        gets_there: int,
    ) -> set[tuple[Principal, int, bool]]:
        """Who gains or loses which permission on something that one of the makers makes."""
        handed_on = hands_on_group(before, mount)
        alike: dict[tuple[int, int | None], list[Maker]] = {}
        for maker in makers:
            alike.setdefault((maker.umask, None if handed_on else maker.gid), []).append(maker)
        found: set[tuple[Principal, int, bool]] = set()
        # what is made is its maker's own: of two of a kind each shows what the other one has there
        for maker in [one for some in list(alike.values())[:_MAKERS] for one in some[:2]]:
            theirs = self.everyone.with_uid(maker.who.uid) if maker.who.uid is not None else 0
            for kind, asked, wants in _MADE_OF:
                creation = Creation(maker.who, maker.gid, asked, maker.umask)
                was, becomes = (self._decisions.of(made(one, mount, kind, creation)) for one in (before, after))
                for want in wants:
                    had, has = was.allowed(want) & ~theirs & got_there, becomes.allowed(want) & ~theirs & gets_there
                    for bits, gains in ((has & ~had, True), (had & ~has, False)):
                        found |= {
                            (who, want, gains)
                            for who in self.everyone.members(bits)
                            if who.kind in ("user", "anyone-else")
                        }
        return found
