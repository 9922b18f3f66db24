"""Matching two states of a tree: what is the same object, what took its place, what is new, gone, or elsewhere now.

Objects are matched by path first. Of what is then left over on either side,
those with the same identity were moved; what is in a directory that was moved
is matched by name again.
"""

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.survey import Survey

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

    def match(self) -> Matching:
        one, other = self.one, self.other
        one.match[0] = other.match[0] = 0
        self._by_name(np.zeros(1, np.int64), np.zeros(1, np.int64))
        while True:
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
