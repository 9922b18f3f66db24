"""Matching two states of a tree: what is the same object, what took its place, what is new, gone, or elsewhere now; and
who is who in the accounts of both.

Objects are matched by path first. Of what is then left over on either side,
those with the same identity were moved; what is in a directory that was moved
is matched by name again.
"""

from collections.abc import Iterable, Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.accounts import Accounts, User
from fiat.core.model.principals import ANYONE_ELSE, Principal, Universe, bare_group, of_account, unlisted_user
from fiat.core.tree.survey import Survey


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
    users = ({one.name: one.uid for one in accounts.all_users()} for accounts in (before, after))
    groups = ({one.name: one.gid for one in reversed(accounts.groups)} for accounts in (before, after))
    return [*_of_kind("user", *users), *_of_kind("group", *groups), *_memberships(before, after)]


def _of_kind(kind: str, before: dict[str, int], after: dict[str, int]) -> list[AccountChange]:
    renamed = {was: now for was, now in _same_numbers(before, after) if was != now and was and now}
    found = []
    for name, number in before.items():
        if name in after and after[name] != number:
            found.append(AccountChange(kind, name, "number", str(number), str(after[name])))
        elif name in renamed:
            found.append(AccountChange(kind, renamed[name], "renamed", name, renamed[name]))
        elif name not in after:
            found.append(AccountChange(kind, name, "gone", str(number)))
    new = after.keys() - before.keys() - {*renamed.values()}
    return found + [AccountChange(kind, name, "new", None, str(after[name])) for name in after if name in new]


def _same_numbers(before: dict[str, int], after: dict[str, int]) -> Iterator[tuple[str | None, str | None]]:
    """Each name of either side with the one that it is on the other, which has the same number.

    Where several have a number, those of the same name are the same; what is left over, and is called nothing else on
    the other side, was renamed, in turn.
    """
    left: dict[int, list[str]] = {}
    for name, number in before.items():
        if name not in after:
            left.setdefault(number, []).append(name)
    for name, number in after.items():
        if before.get(name) == number:
            yield name, name
        elif name not in before and left.get(number):
            yield left[number].pop(0), name
        else:
            yield None, name
    renamed = {name for names in left.values() for name in names}
    for name, number in before.items():
        if name in renamed or (name in after and after[name] != number):
            yield name, None


class _PairedUser(NamedTuple):
    """The accounts of one person on either side, None where there is none; both have number ``uid``."""

    uid: int
    before: User | None
    after: User | None


def _paired_users(before: Accounts, after: Accounts) -> list[_PairedUser]:
    """Each account of either side, and what it is on the other; of several with one number each by itself."""
    had, has = ({one.name: one for one in accounts.all_users()} for accounts in (before, after))
    numbers = ({name: one.uid for name, one in some.items()} for some in (had, has))
    pairs = [(had.get(was or ""), has.get(now or "")) for was, now in _same_numbers(*numbers)]
    return [_PairedUser(one.uid, was, now) for was, now in pairs if (one := now or was) is not None]


def _memberships(before: Accounts, after: Accounts) -> list[AccountChange]:
    """Who is in which group now and was not, or the other way round; of users that both know by their number."""
    found = []
    for _, known, one in _paired_users(before, after):
        if known is None or one is None:
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


class MatchedPeople(NamedTuple):
    """The same people in the same places, before and after; ``regrouped`` are those whose groups are others now.

    Whoever has an account on one side alone is, on the other, what anybody with the number would be: in no group.
    """

    before: Universe
    after: Universe
    regrouped: int


def people_of_both(before: Accounts, after: Accounts, owners: Iterable[tuple[set[int], set[int]]]) -> MatchedPeople:
    """Everyone of either side, and the numbers of users and groups among ``owners``."""
    people = _paired_users(before, after)
    gids: dict[int, str | None] = {}
    for group in (*after.groups, *before.groups):
        gids.setdefault(group.gid, group.name)
    uids: set[int] = set()
    for owning, sharing in owners:
        uids |= owning
        for gid in sorted(sharing - gids.keys()):
            gids[gid] = None
    for uid in sorted(uids - {one.uid for one in people}):  # a name service may know more than it lists
        people.append(_PairedUser(uid, before.user_numbered(uid), after.user_numbered(uid)))
    then = [_as_on(before, one, one.before) for one in people]
    now = [_as_on(after, one, one.after) for one in people]
    bare = [*(bare_group(gid, name) for gid, name in gids.items()), ANYONE_ELSE]
    regrouped = sum(
        1 << place for place, pair in enumerate(zip(then, now, strict=True)) if pair[0].gids != pair[1].gids
    )
    first = Universe([*then, *bare])
    return MatchedPeople(first, first if not regrouped else Universe([*now, *bare]), regrouped)


def _as_on(accounts: Accounts, who: _PairedUser, account: User | None) -> Principal:
    """Who has this account on one side, by the name that they have after; without one, anybody with the number."""
    found = unlisted_user(who.uid) if account is None else of_account(account, accounts)
    known = who.after or who.before
    return found if known is None else found._replace(name=known.name)


Places = NDArray[np.int64]


class Matching(NamedTuple):
    """The entries of two surveys, matched.

    ``before`` and ``after`` are the places of each matched pair, in the order of
    ``after``. Of each pair, ``moved`` tells that it was matched by identity, or
    is in a directory that was; ``first_moved`` that it is the topmost such;
    ``replaced`` that it is another object of the same file system; ``sure`` that births tell whether
    it is the same. ``gone`` are places before, ``new`` places after. What one
    side was not looked into is none of these: ``not_compared`` counts it.
    """

    before: Places
    after: Places
    moved: NDArray[np.bool_]
    first_moved: NDArray[np.bool_]
    replaced: NDArray[np.bool_]
    sure: NDArray[np.bool_]
    gone: Places
    new: Places
    not_compared: int


def match(before: Survey, after: Survey) -> Matching:
    """Match the entries of two surveys of which the tops are the same path; profiles go by the same numbers."""
    return _Matcher(before, after).match()


def match_by_name(before: Survey, after: Survey) -> Matching:
    """Match the entries of two trees that are apart, by their names below the two tops alone: nothing was moved."""
    return _Matcher(before, after).match(by_identity=False)


class _Side:
    """One of the two trees, with what is in each directory at hand."""

    def __init__(self, survey: Survey, names: dict[str, int]) -> None:
        self.survey = survey
        order = np.argsort(survey.parent, kind="stable")[1:]
        self.children = order
        counts = np.bincount(survey.parent[order], minlength=len(survey)) if len(order) else np.zeros(len(survey), int)
        self.counts = counts.astype(np.int64)
        self.first = np.cumsum(self.counts) - self.counts
        words = survey.names(np.arange(len(survey)))
        self.name = np.array([names.setdefault(word, len(names)) for word in words], np.int64)
        self.filesystem = survey.profiles.by_rest(lambda rest: rest.filesystem, np.object_)[survey.profile]
        self.match = np.full(len(survey), -1, np.int64)
        self.unread = np.zeros(len(survey), np.bool_)
        unknown = {*survey.skipped, *(trouble.path for trouble in survey.troubles)}
        if unknown:
            directories = np.flatnonzero(survey.directories())
            for place, path in survey.paths_of(directories.tolist()):
                self.unread[place] = path in unknown

    def inside(self, directories: Places) -> tuple[Places, Places]:
        """Everything in these directories: the place, and which of the directories it is in."""
        counts = self.counts[directories]
        which = np.repeat(np.arange(len(directories)), counts)
        shift = np.repeat(self.first[directories] - (np.cumsum(counts) - counts), counts)
        return self.children[np.arange(len(which)) + shift], which

    def topmost(self, among: NDArray[np.bool_]) -> Places:
        """Those ``among`` the entries whose directory is not among them."""
        parent = np.maximum(self.survey.parent, 0)
        return np.flatnonzero(among & ~(among[parent] & (self.survey.parent >= 0)))

    def under(self, places: Iterable[int]) -> NDArray[np.bool_]:
        """For each entry, whether it is under one of ``places``."""
        found = np.zeros(len(self.survey), np.bool_)
        for place in places:
            found[place + 1 : self.survey.end[place]] = True
        return found


class _Matcher:
    def __init__(self, before: Survey, after: Survey) -> None:
        names: dict[str, int] = {}
        self.one, self.other = _Side(before, names), _Side(after, names)
        self.names = len(names) + 1
        self.by_identity = np.zeros(len(before), np.bool_)

    def match(self, *, by_identity: bool = True) -> Matching:
        one, other = self.one, self.other
        one.match[0] = other.match[0] = 0
        self._by_name(np.zeros(1, np.int64), np.zeros(1, np.int64))
        while by_identity:
            found = self._by_identity()
            if not len(found[0]):
                break
            self._by_name(*found)
        return self._result()

    def _by_name(self, one: Places, other: Places) -> None:
        """Match what is in matched directories, and in what is matched by that, level by level."""
        while len(one):
            mine, which = self.one.inside(one)
            theirs, whose = self.other.inside(other)
            key, known = which * self.names + self.one.name[mine], whose * self.names + self.other.name[theirs]
            _, at, there = np.intersect1d(key, known, assume_unique=True, return_indices=True)
            mine, theirs = mine[at], theirs[there]
            free = (self.one.match[mine] < 0) & (self.other.match[theirs] < 0)
            one, other = mine[free], theirs[free]
            self.one.match[one], self.other.match[other] = other, one

    def _by_identity(self) -> tuple[Places, Places]:
        """Match what is left over on both sides and is the same object, outermost first; what was matched."""
        left = self.one.topmost(self._left(self.one, self.other))
        right = self.other.topmost(self._left(self.other, self.one))
        found = self._same_objects(left, right)
        if not len(found[0]):  # what was moved out of something new, or into it, is further down
            left = np.flatnonzero(self._left(self.one, self.other))
            right = np.flatnonzero(self._left(self.other, self.one))
            found = self._same_objects(left, right)
        one, other = found
        self.one.match[one], self.other.match[other] = other, one
        self.by_identity[one] = True
        return found

    def _left(self, side: _Side, opposite: _Side) -> NDArray[np.bool_]:
        """For each entry of a side whether it has no match, though the other side was looked into there."""
        unread = np.flatnonzero(opposite.unread & (opposite.match >= 0))
        return (side.match < 0) & ~side.under(opposite.match[unread].tolist())

    def _same_objects(self, left: Places, right: Places) -> tuple[Places, Places]:
        """Pairs with one identity, each entry in one pair at most; of several names the first ones."""
        one, other = self.one.survey, self.other.survey
        at = left[np.isin(one.inode[left], other.inode[right])]
        there = right[np.argsort(other.inode[right], kind="stable")]
        place = np.searchsorted(other.inode[there], one.inode[at])
        taken: set[int] = set()
        mine: list[int] = []
        theirs: list[int] = []
        known = other.inode[there]
        for entry, begin in zip(at.tolist(), place.tolist(), strict=True):
            number = int(one.inode[entry])
            while begin < len(there) and int(known[begin]) == number:
                candidate = int(there[begin])
                begin += 1
                if candidate not in taken and number and self._may_be_moved(entry, candidate):
                    taken.add(candidate)
                    mine.append(entry)
                    theirs.append(candidate)
                    break
        return np.array(mine, np.int64), np.array(theirs, np.int64)

    def _may_be_moved(self, entry: int, candidate: int) -> bool:
        one, other = self.one.survey, self.other.survey
        if not one.identity(entry).same_as(other.identity(candidate)):
            return False
        kinds = (one.profiles[int(one.profile[entry])].posture.kind, other.profiles[int(other.profile[candidate])])
        if kinds[0] is not kinds[1].posture.kind:
            return False
        if one.birth[entry] and other.birth[candidate]:
            return True
        return self._contents(self.one, entry) == self._contents(
            self.other, candidate
        )  # the inode may be another's now

    def _contents(self, side: _Side, entry: int) -> tuple[int, int] | None:
        details = side.survey.details
        if details is None or side.counts[entry]:
            return None
        return int(details.size[entry]), int(details.modified[entry])

    def _result(self) -> Matching:
        one, other = self.one, self.other
        after = np.flatnonzero(other.match >= 0)
        before = other.match[after]
        moved = np.zeros(len(other.survey), np.bool_)
        first = np.zeros(len(other.survey), np.bool_)
        tops = np.flatnonzero(self.by_identity)
        moved[one.match[tops]] = first[one.match[tops]] = True
        for place in np.flatnonzero(moved).tolist():  # what is matched in a moved directory has moved with it
            moved[place + 1 : other.survey.end[place]] |= other.match[place + 1 : other.survey.end[place]] >= 0
        births = one.survey.birth[before], other.survey.birth[after]
        sure = (births[0] != 0) & (births[1] != 0)
        same_system = one.filesystem[before] == other.filesystem[after]
        other_object = (one.survey.inode[before] != other.survey.inode[after]) | (sure & (births[0] != births[1]))
        gone, new = self._left(one, other), self._left(other, one)
        not_compared = int(((one.match < 0) & ~gone).sum() + ((other.match < 0) & ~new).sum())
        return Matching(
            before=before,
            after=after,
            moved=moved[after],
            first_moved=first[after],
            replaced=same_system & other_object,
            sure=sure,
            gone=np.flatnonzero(gone),
            new=np.flatnonzero(new),
            not_compared=not_compared,
        )
