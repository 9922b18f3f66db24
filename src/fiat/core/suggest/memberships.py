"""Memberships as ways: each that a user could get, or lose, and what it would do; Fiat never changes one itself."""

from collections.abc import Callable, Iterable, Iterator, Sequence

from fiat.core.ask.effects import Effects, same_people
from fiat.core.ask.treeeffects import Asker, Pair, View
from fiat.core.ask.treeeffects import effects as tree_effects
from fiat.core.ask.who import universe_of
from fiat.core.change.plan import Surveys
from fiat.core.model import principals
from fiat.core.model.accounts import Accounts, SupposedAccounts
from fiat.core.model.host import Host
from fiat.core.model.mode import EXECUTE, READ, WRITE
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.route import lies_under
from fiat.core.model.wish import Wish
from fiat.core.rules.decision import Decision, superuser
from fiat.core.suggest.cost import Draft, Way, meant_by, way_of
from fiat.core.suggest.entrywishes import entry_holding, had
from fiat.core.suggest.goal import Goal
from fiat.core.suggest.means import MEANS, Need, outcome, single_means
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.walk import walk


def members_of(group: Principal, accounts: Accounts) -> Universe:
    """The members of a bare group, by primary group or listed; those who need no permission left out."""
    (gid,) = group.gids
    listed = dict.fromkeys((*accounts.primary_members(gid), *accounts.listed_members(gid)))
    users = (principals.of_account(account, accounts) for account in listed)
    return Universe(who for who in users if not superuser(who))


def for_members(need: Need, members: Universe, actor: Principal, umask: int) -> Iterator[tuple[Wish, Posture]]:
    """What makes ``need`` hold for members by entries, or owner's letters, of their own, one after the other."""
    posture = need.object.posture
    allowed = Decision(posture, members).allowed(need.want)
    wrong = members.everyone & ~allowed if need.gives else allowed
    for member in members.members(wrong):
        own = need._replace(object=need.object._replace(posture=posture), who=member)
        for means in single_means(own, members):
            after = outcome(own.object, means.wish, actor, umask)
            if all(MEANS[name].own for name in means.names) and after is not None and own.met(after):
                yield means.wish, after
                posture = after
                break


def not_more(
    before: Posture, found: Object, want: int, members: Universe, actor: Principal, umask: int
) -> Iterator[tuple[Wish, Posture]]:
    """Entries of their own for members who would have more by the group's than before with ``want``."""
    posture = found.posture
    one, other = Decision(before, members), Decision(posture, members)
    more = 0
    for bit in (READ, WRITE, EXECUTE):
        if not bit & want:
            asked = bit | EXECUTE if bit == WRITE and before.directory else bit
            more |= other.allowed(asked) & ~one.allowed(asked)
    for member in members.members(more):
        wish = Wish(access=entry_holding(posture, member, had(before, member) | want))
        after = outcome(found._replace(posture=posture), wish, actor, umask)
        if after is not None:
            yield wish, after
            posture = after


def memberships(
    host: Host, who: Principal, gids: set[int], *, gives: bool
) -> Iterator[tuple[tuple[str, int], Principal]]:
    """Each membership of ``gids`` that a user could get, or lose; and who they are then.

    A primary group cannot be left, and a number that is no group's cannot be joined.
    """
    accounts = host.accounts
    account = principals.account_of(who, accounts)
    if who.kind != "user" or account is None:
        return
    named = {gid for gid in gids if accounts.group_numbered(gid) is not None}
    for gid in sorted(named - who.gids if gives else named & who.gids - {account.gid}):
        yield (account.name, gid), who._replace(gids=who.gids | {gid} if gives else who.gids - {gid})


def with_membership(host: Host, membership: tuple[str, int], *, gives: bool) -> Host:
    """The host as if a user were in a group, or were not."""
    change = [membership]
    supposed = SupposedAccounts(host.accounts, change) if gives else SupposedAccounts(host.accounts, (), change)
    return HostAsIf(host, Supposition(accounts=supposed))


def membership_ways(
    host: Host,
    goals: Sequence[Goal],
    postures: Iterable[Posture],
    holds: Callable[[Principal], bool],
    effects: Callable[[Host], Effects],
) -> Iterator[Way]:
    """Joining a group that ``postures`` speak of, or leaving it, where all goals, of one user, hold by that.

    ``holds`` tells it of who the user is then, ``effects`` what it does on the host as it is then. Nothing is changed
    by Fiat.
    """
    who, gives, meant = goals[0].who, goals[0].gives, meant_by(goals)
    if any(goal.who != who for goal in goals):
        return  # a way is one membership
    gids = {gid for posture in postures for gid in posture.owners()[1]}
    for membership, member in memberships(host, who, gids, gives=gives):
        if holds(member):
            then = with_membership(host, membership, gives=gives)
            yield way_of(host, goals, Draft(("membership",), (), membership), effects(then), meant, at_least=True)


def effects_of_membership(host: Host, then: Host, surveys: Surveys) -> Effects:
    """What a membership does in the trees that were read."""
    tops: dict[str, View] = {}
    for (path, _), survey in sorted(surveys.items(), key=lambda one: len(one[0][0])):
        if not any(lies_under(path, top) for top in tops):
            tops[path] = View(walk(host, path, follow=False), survey)
    views = list(tops.values())
    postures = [found.posture for view in views for found in view.route.objects]
    profiles = [view.survey.profiles for view in views]
    one, other = (universe_of(host_.accounts, postures, profiles=profiles) for host_ in (host, then))
    asking = Asker(host, then, same_people(one, other))
    return tree_effects(asking, [Pair(view, view) for view in views])
