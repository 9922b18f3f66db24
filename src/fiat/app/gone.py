"""As if an account did not exist: what it leaves behind."""

from collections.abc import Sequence
from typing import NamedTuple

from fiat.app.account import Membership, Sight, UserAccount, user_account
from fiat.app.audit import evidence_of
from fiat.app.hosts import arrive
from fiat.app.question import Question
from fiat.app.whobelow import who_below
from fiat.core.ask.effects import Effects
from fiat.core.audit.evidence import StartedFile
from fiat.core.errors import PathError
from fiat.core.model.accounts import User
from fiat.core.model.host import Host
from fiat.host.live.running import processes


class Left(NamedTuple):
    """What an account leaves behind that is gone: all that it has to do with (``account``), memberships of groups that
    nobody is in then (``emptied``), what is ``started`` as it (None where that was not looked at), and the numbers of
    its running ``processes``. Where it has a group of its own, which goes with it when it is removed, and others are in
    that, ``own_group`` is its name, and ``effects`` are what they lose in each tree.
    """

    account: UserAccount
    emptied: tuple[Membership, ...]
    started: tuple[StartedFile, ...] | None
    processes: tuple[int, ...]
    own_group: str | None = None
    effects: tuple[Effects, ...] = ()


def if_gone(
    host: Host,
    name: str,
    paths: Sequence[str],
    sight: Sight = Sight(),  # noqa: B008
) -> Left:
    """What the account called ``name`` would leave at and under ``paths``, and on the host.

    Raises :class:`fiat.core.errors.UnknownAccount`.
    """
    found = user_account(host, name, paths, sight)
    user, accounts = found.user, host.accounts
    emptied = [one for one in found.memberships if one.group is not None and accounts.member_count(one.gid) == 1]
    evidence = evidence_of(host)
    started = evidence.started()
    for trouble in evidence.unread():
        sight.problem(PathError(trouble.path, trouble.errno))
    own, effects = _without_own_group(host, user, paths, sight)
    return Left(
        found,
        tuple(emptied),
        None if started is None else tuple(one for one in started if one.uid == user.uid),
        () if sight.held else tuple(one.pid for one in processes() if one.uid == user.uid),
        own,
        effects,
    )


def _without_own_group(
    host: Host, user: User, paths: Sequence[str], sight: Sight
) -> tuple[str | None, tuple[Effects, ...]]:
    """The group that is called as the user, and nobody else's primary one, with what its other members would lose."""
    accounts = host.accounts
    group = accounts.group_named(user.name)
    if group is None or [one.name for one in accounts.primary_members(group.gid)] != [user.name]:
        return None, ()
    others = [one.name for one in accounts.listed_members(group.gid) if one.name != user.name]
    if not others:
        return None, ()
    question = Question(host, if_not_member=[f"{name}:{group.gid}" for name in others])
    found = []
    for route in arrive(host, paths, lambda _: None):
        there = who_below(
            question, route, across_mounts=sight.across_mounts, problem=lambda _: None, progress=sight.progress
        ).against_today
        if there is not None:
            found.append(there)
    return group.name, tuple(found)
