"""A universe of principals, and sets of them as bit sets.

A *bit set* is an ``int``: bit ``i`` stands for the principal at place ``i``
of the universe. Set operations are the operators ``& | ~``, and cost the
same for one principal and, in machine words, for thousands.
"""

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import NamedTuple
from weakref import WeakKeyDictionary

from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.idmap import NO_NUMBERS, IdMap, NumberMap
from fiat.core.model.view import View

Ranges = tuple[tuple[int, int], ...]
"""Numbers of users or groups, as pairs of the first and how many."""


class Limits(NamedTuple):
    """What bounds the powers of a running process beyond its ids and its effective capabilities.

    ``bounding`` and ``inheritable`` are sets by mask: what it may gain from a
    file with capabilities that it runs (capabilities(7)). ``users`` and
    ``groups`` are the numbers that its user namespace knows: capabilities count
    only for what belongs to these; None for all (user_namespaces(7)). ``root``
    is the user that is number 0 in that namespace, None where nobody is.
    ``no_new_privileges`` is that of prctl(2), ``filters`` tells of a filter of
    system calls (seccomp(2)). ``own_mounts``: it sees other mounts, or another root
    directory, than Fiat does. ``hidden`` names what could not be looked into.
    """

    bounding: int = capabilities.ALL
    inheritable: int = 0
    users: Ranges | None = None
    groups: Ranges | None = None
    root: int | None = 0
    no_new_privileges: bool = False
    filters: bool = False
    own_mounts: bool = False
    hidden: tuple[str, ...] = ()

    def count_for(self, uid: int | None, gid: int | None) -> bool:
        """Whether capabilities count for what belongs to this user and this group (None for: not asked)."""
        return _within(uid, self.users) and _within(gid, self.groups)


def _within(number: int | None, ranges: Ranges | None) -> bool:
    if number is None or ranges is None:
        return True
    return any(first <= number < first + count for first, count in ranges)


class Principal(NamedTuple):
    """Whoever asks the kernel: what it knows of them when it decides (credentials(7)).

    ``kind`` is ``user``, ``group`` (membership of one group and nothing else),
    ``anyone-else`` (matched by no entry and no group) or ``process``. ``uid``
    is None for those that are no particular user. ``capabilities`` is a bit
    mask of effective capabilities; ``exec_capabilities`` those that are left
    to a program that it runs, where that has none of its own. ``pid``,
    ``limits`` are set for a process. ``gid`` is the group that what they make gets, None where that is not known. Who
    is ``unsure`` may be in more groups than ``gids``: not every source of accounts told.
    """

    kind: str
    name: str | None
    uid: int | None
    gids: frozenset[int]
    capabilities: int = 0
    exec_capabilities: int = 0
    pid: int | None = None
    limits: Limits | None = None
    gid: int | None = None
    unsure: bool = False

    @property
    def identity(self) -> tuple[object, ...]:
        """What stays the same of a principal when memberships change."""
        return (self.kind, self.gids) if self.kind == "group" else (self.kind, self.uid, self.name, self.pid)

    def holds(self, capability: int) -> bool:
        """Whether the effective capabilities include the one with this mask."""
        return bool(self.capabilities & capability)


def user(account: User, gids: Iterable[int]) -> Principal:
    """The principal a user is after login; number 0 holds every capability."""
    powers = capabilities.ALL if account.uid == 0 else 0
    return Principal("user", account.name, account.uid, frozenset(gids), powers, powers, gid=account.gid)


def of_account(account: User, accounts: Accounts) -> Principal:
    """The principal that a user of ``accounts`` is."""
    return of_each([account], accounts)[0]


def of_each(found: Sequence[User], accounts: Accounts) -> list[Principal]:
    """The principals that several users of ``accounts`` are."""
    who = [user(one, gids) for one, gids in zip(found, accounts.gids_of_each(found), strict=True)]
    if accounts.view is not None:
        who = [within(one, accounts.view) for one in who]
    return [
        principal._replace(unsure=True) if accounts.unsure(one) and one.uid else principal
        for one, principal in zip(found, who, strict=True)
    ]


def within(who: Principal, view: View) -> Principal:
    """Who, as somebody in a container: its root has the powers that it can have there, and nobody else any."""
    powers = view.powers if who.uid is not None and who.uid == view.root else 0
    limits = None
    if view.numbers is not None or view.powers != capabilities.ALL or view.no_new_privileges:
        limits = Limits(
            bounding=view.powers,
            users=_ranges(view.numbers.users) if view.numbers is not None else None,
            groups=_ranges(view.numbers.groups) if view.numbers is not None else None,
            root=view.root,
            no_new_privileges=view.no_new_privileges,
        )
    return who._replace(capabilities=powers, exec_capabilities=powers, limits=limits)


def _ranges(numbers: NumberMap) -> Ranges:
    return tuple((outside, count) for _, outside, count in numbers.extents)


def account_of(who: Principal, accounts: Accounts) -> User | None:
    """The account that a user is, by its name; the first with the number of who goes by a number, or is a process."""
    named = accounts.user_named(who.name) if who.kind == "user" and who.name is not None else None
    if named is not None and named.uid == who.uid:
        return named
    return None if who.uid is None else accounts.user_numbered(who.uid)


def others_of_number(who: Principal, accounts: Accounts) -> list[Principal]:
    """The other accounts with the number of a user: what an entry or an owner's letters give one, they give all."""
    if who.kind != "user" or who.uid is None:
        return []
    same = accounts.users_numbered(who.uid)
    return of_each([one for one in same if one.name != who.name], accounts)


def unlisted_user(uid: int, gids: Iterable[int] = ()) -> Principal:
    """A user number without an account."""
    powers = capabilities.ALL if uid == 0 else 0
    return Principal("user", None, uid, frozenset(gids), powers, powers)


def of_number(uid: int, accounts: Accounts) -> Principal:
    """A user number that no account is known to have: where not every source told, there may be one."""
    who = unlisted_user(uid)._replace(unsure=uid != 0 and not accounts.tells_all)
    return who if accounts.view is None else within(who, accounts.view)


def bare_group(gid: int, name: str | None) -> Principal:
    """Membership of one group, and nothing else."""
    return Principal("group", name, None, frozenset((gid,)))


ANYONE_ELSE = Principal("anyone-else", None, None, frozenset())


def _is_mapped(who: Principal, numbers: IdMap) -> bool:
    """Whether a mount with these numbers has some on disk for what ``who`` makes there."""
    user, group = who.uid, who.gid
    return (user is None or numbers.users.inward(user) is not None) and (
        group is None or numbers.groups.inward(group) is not None
    )


class Universe:
    """Principals in a fixed order, indexed by what the access rules ask about."""

    def __init__(self, principals: Iterable[Principal]) -> None:
        self.principals = tuple(principals)
        self.everyone = (1 << len(self.principals)) - 1
        self._holding: dict[int, int] = {}
        self._of_kind: dict[str, int] = {}
        self._mapped: dict[IdMap, int] = {}
        self._after_exec: Universe | None = None
        by_uid: dict[int, list[int]] = {}
        by_gid: dict[int, list[int]] = {}
        powerful, limited, confined, unsure = [], [], [], []
        for place, principal in enumerate(self.principals):
            if principal.uid is not None:
                by_uid.setdefault(principal.uid, []).append(place)
            for gid in principal.gids:
                by_gid.setdefault(gid, []).append(place)
            if principal.capabilities:
                powerful.append(place)
            if principal.unsure:
                unsure.append(place)
            limits = principal.limits
            if limits is not None:
                limited.append(place)
                if limits.users is not None or limits.groups is not None:
                    confined.append(place)
        # the numbers that are asked about are few, and a set of thousands takes making
        self._places_by_uid, self._places_by_gid = by_uid, by_gid
        self._with_uid: dict[int, int] = {}
        self._with_gid: dict[int, int] = {}
        self._powerful = set_of(powerful)
        self.limited = set_of(limited)
        self.confined = set_of(confined)
        self.unsure = set_of(unsure)

    def with_uid(self, uid: int) -> int:
        """The set of principals whose user is ``uid``."""
        found = self._with_uid.get(uid)
        if found is None:
            found = self._with_uid[uid] = set_of(self._places_by_uid.get(uid, ()))
        return found

    def in_group(self, gid: int) -> int:
        """The set of principals for whom in_group_p(gid) holds in the kernel."""
        found = self._with_gid.get(gid)
        if found is None:
            found = self._with_gid[gid] = set_of(self._places_by_gid.get(gid, ()))
        return found

    def holders_of(self, capability: int, uid: int | None = None, gid: int | None = None) -> int:
        """The set of principals whose effective capabilities include ``capability``.

        With ``uid`` and ``gid`` only those for whom it counts for what belongs
        to these (the kernel's ``capable_wrt_inode_uidgid``): nobody, where one of them is no number here.
        """
        if uid in NO_NUMBERS or gid in NO_NUMBERS:
            return 0
        found = self._holding.get(capability)
        if found is None:
            found = 0
            for place in places(self._powerful):
                if self.principals[place].holds(capability):
                    found |= 1 << place
            self._holding[capability] = found
        if found & self.confined and (uid is not None or gid is not None):
            for place in places(found & self.confined):
                limits = self.principals[place].limits
                if limits is not None and not limits.count_for(uid, gid):
                    found &= ~(1 << place)
        return found

    def only_of(self, uid: int, gid: int) -> int:
        """The set of principals that are this user with this group; those of no known group are taken to have it."""
        theirs = places(self.with_uid(uid))
        return set_of(place for place in theirs if self.principals[place].gid in (None, gid))

    def mapped(self, numbers: IdMap) -> int:
        """The set of principals whose own numbers are there on disk under a mount with these, so that they can make
        something (``fsuidgid_has_mapping`` in the kernel); those who are nobody in particular are taken to be."""
        found = self._mapped.get(numbers)
        if found is None:
            found = self._mapped[numbers] = set_of(
                place for place, who in enumerate(self.principals) if _is_mapped(who, numbers)
            )
        return found

    def of_kind(self, kind: str) -> int:
        """The set of principals of this kind."""
        found = self._of_kind.get(kind)
        if found is None:
            found = set_of(place for place, who in enumerate(self.principals) if who.kind == kind)
            self._of_kind[kind] = found
        return found

    def only(self, bits: int) -> "Universe":
        """The universe of the principals in the set ``bits``."""
        return self if bits == self.everyone else Universe(self.members(bits))

    def in_more_groups(self, gids: frozenset[int]) -> "Universe":
        """The same principals, with those who are unsure in ``gids`` as well."""
        return Universe(who._replace(gids=who.gids | gids) if who.unsure else who for who in self.principals)

    def after_exec(self) -> "Universe":
        """The same principals as the programs they run; this very universe where that makes no difference."""
        if self._after_exec is None:
            self._after_exec = self
            if any(who.capabilities != who.exec_capabilities for who in self.principals):
                self._after_exec = Universe(who._replace(capabilities=who.exec_capabilities) for who in self.principals)
        return self._after_exec

    def members(self, bits: int) -> Iterator[Principal]:
        """The principals in the set ``bits``, in order."""
        return (self.principals[place] for place in places(bits))


def places(bits: int) -> Iterator[int]:
    """The places of the bits that are set, ascending."""
    text = bin(bits)[:1:-1]  # of thousands of bits, to take one away after the other makes as many numbers
    place = text.find("1")
    while place >= 0:
        yield place
        place = text.find("1", place + 1)


def set_of(places: Iterable[int]) -> int:
    """The set with the bits at these places."""
    found = bytearray()
    for place in places:
        byte = place >> 3
        if byte >= len(found):
            found.extend(bytes(byte + 1 - len(found)))
        found[byte] |= 1 << (place & 7)
    return int.from_bytes(found, "little")


_known: WeakKeyDictionary[Accounts, tuple[Principal, ...]] = WeakKeyDictionary()


def _users_of(accounts: Accounts) -> tuple[Principal, ...]:
    """Each user that is listed; made once, for there may be thousands, and they are asked for again and again."""
    found = _known.get(accounts)
    if found is None:
        found = _known[accounts] = tuple(of_each(accounts.all_users(), accounts))
    return found


def of_accounts(
    accounts: Accounts,
    uids: Collection[int] = frozenset(),
    gids: Collection[int] = frozenset(),
    more: Iterable[Principal] = (),
) -> Universe:
    """Everyone: each user, each bare group, anyone else, and ``more``.

    ``uids`` and ``gids`` add the numbers that own or are named on the paths in
    question, where they have no account.
    """
    uids, gids = {*uids}, {*gids}
    if (view := accounts.view) is not None:  # nobody there has any other number
        uids = {uid for uid in uids if view.there(uid, users=True) is not None}
        gids = {gid for gid in gids if view.there(gid, users=False) is not None}
    users = list(_users_of(accounts))
    known = {who.uid for who in users}
    listed = {group.gid for group in accounts.groups}
    named = {who.name for who in users}
    # the name service may know more than it lists: whose number it is, and who is in a group
    more_users = {
        account.name: account
        for found in (
            *(accounts.users_numbered(uid) for uid in sorted(uids)),
            *(accounts.listed_members(gid) for gid in sorted(gids - listed)),
        )
        for account in found
        if account.name not in named
    }
    users += of_each([*more_users.values()], accounts)
    known |= {account.uid for account in more_users.values()}
    users += [of_number(uid, accounts) for uid in sorted(uids - known)]
    groups: dict[int, Group | None] = {}
    for group in accounts.groups:
        groups.setdefault(group.gid, group)
    for gid in sorted(gids - groups.keys()):
        groups[gid] = accounts.group_numbered(gid)
    bare = [bare_group(gid, group.name if group else None) for gid, group in groups.items()]
    others = [*bare, ANYONE_ELSE]
    if view is not None:
        others = [within(one, view) for one in others]
    return Universe((*users, *others, *more))
