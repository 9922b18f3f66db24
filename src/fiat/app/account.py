"""An account, or a group, as access sees it: numbers, memberships, processes, and what it has to do with a tree."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from fiat.app.hosts import arrive
from fiat.app.problems import Note, Problem, raise_problem
from fiat.core.ask import caveats
from fiat.core.errors import PathError, UnknownAccount
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.login import Login
from fiat.core.text import quoted

if TYPE_CHECKING:
    from fiat.core.ask.acting import Acting
    from fiat.core.ask.bygroup import InTree
    from fiat.core.model.route import Route
    from fiat.core.rules.elevation import Matcher
    from fiat.core.tree.survey import Survey


class Membership(NamedTuple):
    """That ``user`` is in ``group`` (its number is ``gid``): as the ``primary`` group, and as one ``listed`` there.

    ``source`` says in words where the listing stands.
    """

    user: str
    gid: int
    group: str | None
    primary: bool
    listed: bool
    source: str


class OddProcess(NamedTuple):
    """Running processes of one ``user`` (None without account) that are alike: their numbers, their program.

    ``lacks`` are groups that the account has and they have not, ``besides`` what they have and the account has not.
    """

    user: str | None
    uid: int
    pids: tuple[int, ...]
    program: str
    lacks: tuple[int, ...]
    besides: tuple[int, ...]


class Sight(NamedTuple):
    """What is looked at: a host that is ``held`` in a file, of which no process is known, or this one; what is mounted
    in the trees, too (``across_mounts``); and who is told what could not be looked at, or is not evaluated.
    """

    held: bool = False
    across_mounts: bool = False
    problem: Problem = raise_problem
    note: Note = lambda findings: None
    progress: Progress = no_progress


class UserAccount(NamedTuple):
    """A user: memberships, processes with other groups, accounts of the same number, what a login gives, and what it
    has to do with trees. ``acting`` is as whom they may act, by the ``rules`` of that source; None where that was not
    looked at."""

    user: User
    service: bool
    same_number: tuple[str, ...]
    memberships: tuple[Membership, ...]
    odd: tuple[OddProcess, ...]
    login: Login
    trees: tuple[InTree, ...]
    acting: tuple[Acting, ...] | None = None
    rules: str = ""


class GroupAccount(NamedTuple):
    """A group: its members, names that it lists and that have no account, processes that run with it though their
    account is not in it, and what it has to do with trees."""

    group: Group
    same_number: tuple[str, ...]
    memberships: tuple[Membership, ...]
    unknown: tuple[str, ...]
    odd: tuple[OddProcess, ...]
    trees: tuple[InTree, ...]


def user_account(
    host: Host,
    name: str,
    paths: Sequence[str] = (),
    sight: Sight = Sight(),  # noqa: B008
    matcher: Matcher | None = None,
) -> UserAccount:
    """The account called ``name``, or with that number, and what it has to do with ``paths``; by the rules of
    ``matcher`` as whom it may act.

    Raises :class:`UnknownAccount`.
    """
    accounts = host.accounts
    account = accounts.user_named(name) or accounts.user_numbered(accounts.user_id(name.removeprefix("uid:")))
    if account is None:
        raise UnknownAccount(name, f"no user has the number {quoted(name)} in {accounts.source}")
    gids = accounts.gids_of(account)
    if matcher is not None:
        from fiat.core.ask.acting import acting
    trees: list[InTree] = []
    if paths:
        from fiat.core.ask.bygroup import user_in_tree  # loads NumPy

        for route, survey in _surveys(host, paths, sight):
            trees.append(user_in_tree(host, account, route, survey))
    return UserAccount(
        account,
        accounts.is_service(account),
        tuple(one.name for one in accounts.users_numbered(account.uid) if one.name != account.name),
        tuple(_membership(accounts, account, gid, held=sight.held) for gid in gids),
        () if sight.held else tuple(_odd_of_user(accounts, account, frozenset(gids))),
        host.logins().of(account),
        tuple(trees),
        None if matcher is None else tuple(acting(account, matcher)),
        "" if matcher is None else matcher.elevations.source,
    )


def group_account(
    host: Host,
    name: str,
    paths: Sequence[str] = (),
    sight: Sight = Sight(),  # noqa: B008
) -> GroupAccount:
    """The group called ``name``, or with that number; as :func:`user_account`."""
    accounts = host.accounts
    gid = accounts.group_id(name)
    group = accounts.group_named(name) or accounts.group_numbered(gid)
    if group is None:
        raise UnknownAccount(name, f"no group has the number {quoted(name)} in {accounts.source}")
    members = dict.fromkeys((*accounts.primary_members(gid), *accounts.listed_members(gid)))
    trees: list[InTree] = []
    if paths:
        from fiat.core.ask.bygroup import group_in_tree

        for route, survey in _surveys(host, paths, sight):
            trees.append(group_in_tree(host, group, route, survey))
    same = [one for one in accounts.groups if one.gid == gid]
    unknown = {who: None for one in same for who in one.members if accounts.user_named(who) is None}
    if not accounts.tells_all:
        unknown = {}  # they may have an account
    return GroupAccount(
        group,
        tuple(one.name for one in same if one.name != group.name),
        tuple(_membership(accounts, account, gid, held=sight.held) for account in members),
        tuple(unknown),
        () if sight.held else tuple(_odd_of_group(accounts, gid)),
        tuple(trees),
    )


def _membership(accounts: Accounts, account: User, gid: int, *, held: bool) -> Membership:
    group = accounts.group_numbered(gid)
    listed = account in accounts.listed_members(gid)
    return Membership(
        account.name,
        gid,
        None if group is None else group.name,
        account.gid == gid,
        listed,
        _where_listed(accounts, account, gid, held=held) if listed else "",
    )


def _where_listed(accounts: Accounts, account: User, gid: int, *, held: bool) -> str:
    from fiat.host.accounts.nameservice import NameService, listed_in_files

    if held or not isinstance(accounts, NameService):
        return accounts.source
    if gid in listed_in_files(account.name):
        return "/etc/group"
    return "the name service, not in /etc/group"


def _odd_of_user(accounts: Accounts, account: User, gids: frozenset[int]) -> Iterable[OddProcess]:
    from fiat.host.live.running import processes

    if accounts.unsure(account):
        return
    # of several accounts with one number a process may be any
    known = [frozenset(accounts.gids_of(one)) for one in accounts.users_numbered(account.uid)]
    odd = [one for one in processes() if one.uid == account.uid and one.gids not in known]
    together: dict[tuple[str, frozenset[int]], list[int]] = {}
    for one in odd:
        together.setdefault((one.program, one.gids), []).append(one.pid)
    for (program, has), pids in together.items():
        lacks, besides = sorted(gids - has), sorted(has - gids)
        yield OddProcess(account.name, account.uid, tuple(pids), program, tuple(lacks), tuple(besides))


def _odd_of_group(accounts: Accounts, gid: int) -> Iterable[OddProcess]:
    from fiat.host.live.running import processes

    together: dict[tuple[int, str], list[int]] = {}
    for one in processes():
        users = accounts.users_numbered(one.uid)
        is_in = any(gid in accounts.gids_of(user) or accounts.unsure(user) for user in users)
        if gid in one.gids and not is_in and one.uid:
            together.setdefault((one.uid, one.program), []).append(one.pid)
    for (uid, program), pids in together.items():
        user = accounts.user_numbered(uid)
        yield OddProcess(None if user is None else user.name, uid, tuple(pids), program, (), (gid,))


def _surveys(host: Host, paths: Sequence[str], sight: Sight) -> Iterator[tuple[Route, Survey]]:
    from fiat.core.ask.treecaveats import first_of_each_kind
    from fiat.core.tree.reading import survey_at
    from fiat.core.tree.walk import Extent

    for route in arrive(host, paths, sight.problem):
        again, survey = survey_at(host, route.asked, Extent(across_mounts=sight.across_mounts), sight.progress)
        for place in first_of_each_kind(survey):
            sight.note(caveats.of_object(survey.object(place)))
        sight.note(caveats.of_mounts_left_out(survey.skipped))
        for trouble in survey.troubles:
            sight.problem(PathError(trouble.path, trouble.errno))
        yield again, survey
