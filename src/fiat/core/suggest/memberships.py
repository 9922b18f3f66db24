"""Memberships as ways: each that a user could get, or lose, and what it would do; Fiat never changes one itself."""

from collections.abc import Iterator

from fiat.core.ask.effects import Effects, same_people
from fiat.core.ask.treeeffects import Asking, Pair, View
from fiat.core.ask.treeeffects import effects as tree_effects
from fiat.core.ask.who import universe_of
from fiat.core.change.plan import Surveys
from fiat.core.model.accounts import Supposed, User
from fiat.core.model.host import Host
from fiat.core.model.paths import lies_under
from fiat.core.model.principals import Principal
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.walk import walk


def memberships(
    host: Host, who: Principal, gids: set[int], *, gives: bool
) -> Iterator[tuple[tuple[str, int], Principal]]:
    """Each membership of ``gids`` that a user could get, or lose; and who they are then.

    A primary group cannot be left.
    """
    accounts = host.accounts
    account: User | None = accounts.user_numbered(who.uid) if who.uid is not None else None
    if who.kind != "user" or account is None:
        return
    for gid in sorted(gids - who.gids if gives else gids & who.gids - {account.gid}):
        yield (account.name, gid), who._replace(gids=who.gids | {gid} if gives else who.gids - {gid})


def with_membership(host: Host, membership: tuple[str, int], *, gives: bool) -> Host:
    """The host as if a user were in a group, or were not."""
    change = [membership]
    supposed = Supposed(host.accounts, change) if gives else Supposed(host.accounts, (), change)
    return HostAsIf(host, Supposition(accounts=supposed))


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
    asking = Asking(host, then, same_people(one, other))
    return tree_effects(asking, [Pair(view, view) for view in views])
