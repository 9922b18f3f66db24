"""What has become of accounts between two times, and the same people at both of them."""

from collections.abc import Iterable
from typing import NamedTuple

from fiat.core.model.accounts import Accounts, User
from fiat.core.model.principals import ANYONE_ELSE, Principal, Universe, bare_group, unlisted_user, user


class AccountChange(NamedTuple):
    """One change of a user or a group, called ``name``: ``kind`` is user or group.

    ``change`` is new, gone, renamed (``was`` is its name before), joined or left (``group``
    is the other side), number (it has another number: ``was`` and ``now``), or primary-group.
    """

    kind: str
    name: str
    change: str
    was: str | None = None
    now: str | None = None


def account_changes(before: Accounts, after: Accounts) -> list[AccountChange]:
    """What is not as it was: users by number, then groups, then memberships."""
    users = _of_kind("user", {one.name: one.uid for one in before.users}, {one.name: one.uid for one in after.users})
    groups = _of_kind(
        "group", {one.name: one.gid for one in before.groups}, {one.name: one.gid for one in after.groups}
    )
    return [*users, *groups, *_memberships(before, after)]


def _of_kind(kind: str, before: dict[str, int], after: dict[str, int]) -> list[AccountChange]:
    had = {number: name for name, number in reversed(before.items())}
    has = {number: name for name, number in reversed(after.items())}
    found = []
    for name, number in before.items():
        if name in after and after[name] != number:
            found.append(AccountChange(kind, name, "number", str(number), str(after[name])))
        elif name not in after:
            renamed = has.get(number)
            if renamed is not None and renamed not in before:
                found.append(AccountChange(kind, renamed, "renamed", name, renamed))
            else:
                found.append(AccountChange(kind, name, "gone", str(number)))
    for name, number in after.items():
        if name not in before and (had.get(number) is None or had[number] in after):
            found.append(AccountChange(kind, name, "new", None, str(number)))
    return found


def _memberships(before: Accounts, after: Accounts) -> list[AccountChange]:
    """Who is in which group now and was not, or the other way round; of users that both know by their number."""
    found = []
    for one in after.users:
        known = before.user_numbered(one.uid)
        if known is None:
            continue
        had, has = before.gids_of(known), after.gids_of(one)
        if known.gid != one.gid:
            was, now = _group_name(known.gid, before), _group_name(one.gid, after)
            found.append(AccountChange("user", one.name, "primary-group", was, now))
        joined = [_group_name(gid, after) for gid in has if gid not in had]
        left = [_group_name(gid, before) for gid in had if gid not in has]
        found += [AccountChange("user", one.name, "joined", None, name) for name in joined]
        found += [AccountChange("user", one.name, "left", name, None) for name in left]
    return found


def _group_name(gid: int, accounts: Accounts) -> str:
    group = accounts.group_numbered(gid)
    return str(gid) if group is None else group.name


class Both(NamedTuple):
    """The same people in the same places, before and after; ``regrouped`` are those whose groups are others now.

    Whoever has an account on one side alone is, on the other, what anybody with the number would be: in no group.
    """

    before: Universe
    after: Universe
    regrouped: int


def people_of_both(before: Accounts, after: Accounts, owners: Iterable[tuple[set[int], set[int]]]) -> Both:
    """Everyone of either side, and the numbers of users and groups among ``owners``."""
    uids: dict[int, User | None] = {}
    for account in (*after.all_users(), *before.all_users()):
        uids.setdefault(account.uid, account)
    gids: dict[int, str | None] = {}
    for group in (*after.groups, *before.groups):
        gids.setdefault(group.gid, group.name)
    for owning, sharing in owners:
        for uid in sorted(owning - uids.keys()):
            uids[uid] = after.user_numbered(uid) or before.user_numbered(uid)
        for gid in sorted(sharing - gids.keys()):
            gids[gid] = None
    then = [_as_on(before, uid, named) for uid, named in uids.items()]
    now = [_as_on(after, uid, named) for uid, named in uids.items()]
    bare = [*(bare_group(gid, name) for gid, name in gids.items()), ANYONE_ELSE]
    regrouped = sum(
        1 << place for place, pair in enumerate(zip(then, now, strict=True)) if pair[0].gids != pair[1].gids
    )
    first = Universe([*then, *bare])
    return Both(first, first if not regrouped else Universe([*now, *bare]), regrouped)


def _as_on(accounts: Accounts, uid: int, known: User | None) -> Principal:
    """The user with this number on one side, by the name that it has after."""
    account = accounts.user_numbered(uid)
    found = unlisted_user(uid) if account is None else user(account, accounts.gids_of(account))
    return found if known is None else found._replace(name=known.name)
