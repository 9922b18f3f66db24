"""A whole tree held compactly: arrays, not one Python object for each path.

Entries that are alike in everything but name, inode and number of links have
one *profile*, which is held once. What access rules say of a tree is then
worked out for each profile, not for each path.
"""

from collections.abc import Iterable, Iterator, Sequence
from operator import add
from typing import Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.columns import made_of
from fiat.core.model.posture import Identity, Object, Posture, Status
from fiat.core.model.route import lies_under
from fiat.core.tree.names import Names
from fiat.core.tree.profile import Profile
from fiat.core.tree.profiles import Profiles
from fiat.core.tree.walk import Trouble

Numbers = NDArray[np.int32]

_BLOCK = 2000
"""Paths that are made together."""


class Survey:
    """A tree. An entry is known by its place; place 0 is ``top``, parents stand before what is in them.

    For each entry: ``parent``, the place of its directory (-1 for the top);
    ``end``, the place after the last entry under it; ``profile``, into
    ``profiles``; ``inode``; ``links``; ``birth`` in nanoseconds since the
    epoch; and, where these were asked for, ``details``. ``troubles`` are what
    could not be looked at, ``skipped`` the mount points that were not entered.
    A survey that was stopped is not ``complete``; one that was stopped because
    it held as many entries as asked for is ``bounded`` besides.
    """

    def __init__(
        self,
        *,
        top: Object,
        profiles: Profiles,
        parent: NDArray[Any],
        end: NDArray[Any],
        profile: NDArray[Any],
        inode: NDArray[Any],
        links: NDArray[Any],
        birth: NDArray[Any],
        names: Names,
        troubles: list[Trouble],
        skipped: list[str],
        complete: bool = True,
        bounded: bool = False,
        details: "Details | None" = None,
    ) -> None:
        self.top = top
        self.profiles = profiles
        self.parent: Numbers = parent
        self.end: Numbers = end
        self.profile: Numbers = profile
        self.inode: NDArray[np.uint64] = inode
        self.links: NDArray[np.uint32] = links
        self.birth: NDArray[np.int64] = birth
        self.troubles = troubles
        self.skipped = skipped
        self.complete = complete
        self.bounded = bounded
        self.details = details
        self._names = names

    def __len__(self) -> int:
        return len(self.profile)

    def __iter__(self) -> Iterator[tuple[str, Posture]]:
        """Each path with its posture, parents first."""
        postures = [rest.posture for rest in self.profiles]
        for places, paths in self.paths_in_blocks(np.arange(len(self))):
            yield from zip(paths, (postures[number] for number in self.profile[places].tolist()), strict=True)

    def name(self, place: int) -> str:
        """The name of an entry in its directory; that of the top is the last one of its path."""
        if not place:
            return self.top.path.rpartition("/")[2]
        return self._names.one(place)

    def names(self, places: NDArray[Any]) -> list[str]:
        """The names of many entries; that of the top is empty."""
        return self._names.many(places)

    def first_bytes(self, places: NDArray[Any], count: int) -> NDArray[np.uint8]:
        """The first bytes of many names, a row for each; what is shorter is filled up with 0."""
        return self._names.first_bytes(places, count)

    def bytes_of_names(self) -> tuple[bytes, NDArray[Any], NDArray[Any]]:
        """The bytes of all names; for each entry where its own starts, and how many it has."""
        return self._names.held()

    def path(self, place: int) -> str:
        """The path of one entry."""
        parts: list[str] = []
        while place:
            parts.append(self.name(place))
            place = int(self.parent[place])
        if not parts:
            return self.top.path
        return "/".join([self.top.path.rstrip("/"), *reversed(parts)])

    def paths(self) -> Iterator[str]:
        """The path of every entry, in the order of places; cheaper than asking for each."""
        return (path for _, path in self.paths_of(range(len(self))))

    def reaches(self, path: str) -> bool:
        """Whether ``path`` is one of those that were looked at; what is mounted in the tree is not, where it was left
        out."""
        if len(self) == 1:
            return path == self.top.path
        return lies_under(path, self.top.path) and not any(lies_under(path, mount) for mount in self.skipped)

    def paths_of(self, places: Iterable[int]) -> Iterator[tuple[int, str]]:
        """Each of ``places`` with its path."""
        for some, paths in self.paths_in_blocks(np.fromiter(places, np.int64)):
            yield from zip(some.tolist(), paths, strict=True)

    def paths_in_blocks(self, places: NDArray[Any], top: str | None = None) -> Iterator[tuple[NDArray[Any], list[str]]]:
        """The places, some thousand at a time, with their paths; cheapest where what is in a directory stands together.

        ``top`` is put in place of the top's path, which ends in a slash then or is empty.
        """
        above = self.top.path.rstrip("/") + "/" if top is None else top
        known = {-1: "", 0: above}  # of directories, each with a slash at its end

        def leading_to(directory: int) -> str:
            chain = []
            while directory not in known:
                chain.append(directory)
                directory = int(self.parent[directory])
            for one in reversed(chain):
                known[one] = f"{known[directory]}{self.name(one)}/"
                directory = one
            return known[directory]

        for first in range(0, len(places), _BLOCK):
            some = places[first : first + _BLOCK]
            if len(known) > _BLOCK:
                known = {-1: "", 0: above}
            parents = self.parent[some].tolist()
            for directory in dict.fromkeys(parents):
                leading_to(directory)
            paths = list(map(add, map(known.__getitem__, parents), self._names.many(some)))
            for place in np.flatnonzero(some == 0).tolist():
                paths[place] = self.top.path if top is None else top
            yield some, paths

    def object(self, place: int, path: str | None = None) -> Object:
        """The entry at ``place`` as an object."""
        if not place:
            return self.top
        profile = self.profiles[int(self.profile[place])]
        path, inode, links, birth = path or self.path(place), self.inode[place], self.links[place], self.birth[place]
        found, details = profile.at(path, int(inode), int(links), int(birth)), self.details
        if details is None:
            return found
        status = Status(
            found.status.identity,
            int(links),
            int(details.size[place]),
            int(details.changed[place]) or None,
            profile.device,
            int(details.modified[place]) or None,
        )
        return found._replace(status=status, target=details.targets.get(place))

    def identity(self, place: int) -> Identity:
        """What tells the entry at ``place`` from every other object."""
        filesystem = self.profiles[int(self.profile[place])].filesystem
        return Identity(filesystem, int(self.inode[place]), int(self.birth[place]))

    def identities(self, places: NDArray[Any]) -> Iterator[Identity]:
        """The identities of the entries at these places, in their order."""
        filesystems = self.profiles.by_rest(lambda rest: rest.filesystem, np.object_)[self.profile[places]].tolist()
        return made_of(Identity, filesystems, self.inode[places].tolist(), self.birth[places].tolist())

    def with_profiles(self, profiles: Iterable[Profile], profile: Numbers) -> "Survey":
        """A survey of this tree with other profiles; ``top`` is as its profile then says."""
        profiles = profiles if isinstance(profiles, Profiles) else Profiles(profiles)
        first = profiles[int(profile[0])]
        top = self.top._replace(posture=first.posture, program=first.program, mount=first.mount)
        return Survey(
            top=top,
            profiles=profiles,
            parent=self.parent,
            end=self.end,
            profile=profile,
            inode=self.inode,
            links=self.links,
            birth=self.birth,
            names=self._names,
            troubles=self.troubles,
            skipped=self.skipped,
            complete=self.complete,
            bounded=self.bounded,
            details=self.details,
        )

    def directories(self) -> NDArray[np.bool_]:
        """For each entry, whether it is a directory."""
        return self.directories_at(slice(None))

    def directories_at(self, places: NDArray[Any] | slice) -> NDArray[np.bool_]:
        """For each of the entries at these places, whether it is a directory."""
        found: NDArray[np.bool_] = self.profiles.by_rest(lambda rest: rest.posture.directory)[self.profile[places]]
        return found

    def levels(self) -> Iterator[Numbers]:
        """The places of the directories, one level of the tree after the other, the top first."""
        places = np.flatnonzero(self.directories()).astype(np.int32)
        if not len(places):
            return
        depth = np.zeros(len(places), np.int32)
        number = np.searchsorted(places, self.parent[places])
        for here, above in enumerate(number.tolist()[1:], 1):
            depth[here] = depth[above] + 1
        order = np.argsort(depth, kind="stable")
        bounds = np.flatnonzero(np.diff(depth[order])) + 1
        yield from np.split(places[order], bounds)

    def several_names(self) -> dict[Identity, list[int]]:
        """The places of each inode that has several names, and is no directory."""
        found: dict[Identity, list[int]] = {}
        for place in np.flatnonzero((self.links > 1) & ~self.directories()).tolist():
            found.setdefault(self.identity(place), []).append(place)
        return found

    def chosen(self, takes: "EntryChooser") -> NDArray[np.bool_]:
        """For each entry, whether ``takes`` means it."""
        found = np.ones(len(self), np.bool_)
        if takes.looks_at_postures:
            kinds = (takes.takes_posture(profile.posture) for profile in self.profiles)
            found = np.fromiter(kinds, np.bool_, len(self.profiles))[self.profile]
        if takes.looks_at_names:
            places = np.flatnonzero(found)
            for first in range(0, len(places), _BLOCK):
                some = places[first : first + _BLOCK]
                found[some] = takes.takes_names(self.names(some))
            if len(places) and not places[0]:
                (found[0],) = takes.takes_names([self.name(0)])
        return found


class EntryChooser(Protocol):
    """Chooses among the entries of a tree, by posture and by name."""

    @property
    def looks_at_names(self) -> bool:
        """Whether it chooses by names, so that these are to be read."""

    @property
    def looks_at_postures(self) -> bool:
        """Whether it chooses by postures."""

    def takes_posture(self, posture: Posture) -> bool:
        """Whether what has this posture can be meant."""

    def takes_names(self, names: Sequence[str]) -> list[bool]:
        """Of each name whether what has it in its directory can be meant."""


class Details(NamedTuple):
    """What a list of objects shows besides: for each entry the size in bytes, and the times when its status and its
    contents were last changed.

    Times are in nanoseconds since the epoch, 0 where they are not known. ``targets`` are where the
    symlinks lead, by the place of the link.
    """

    size: NDArray[np.int64]
    changed: NDArray[np.int64]
    modified: NDArray[np.int64]
    targets: dict[int, str]
