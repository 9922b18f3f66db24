"""A host held in a snapshot: some objects one by one, whole trees in columns."""

import errno
import os
import posixpath
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.accounts import Accounts
from fiat.core.model.host import NotHeld, Progress, Settings
from fiat.core.model.posture import Object, Status
from fiat.core.model.route import lies_under
from fiat.core.tree.assembly import Assembly, Batch
from fiat.core.tree.distinct import distinct_values
from fiat.core.tree.profiles import Columns, Profiles
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent, Trouble
from fiat.host.image.host import ImageHost, ImageNode, error
from fiat.host.snapshot.columns import Entries


class SnapshotTrees(NamedTuple):
    """The trees of a snapshot: their tops, what is in them, and what is not known of them.

    ``left_out`` are mount points in them that were not entered, ``troubles``
    what could not be looked at. A snapshot that was ``cut`` short does not
    know of a directory without entries whether it has any.
    """

    tops: tuple[str, ...]
    profiles: Profiles
    entries: Entries
    left_out: tuple[str, ...]
    troubles: tuple[Trouble, ...]
    cut: bool = False
    across_mounts: bool = False


class SnapshotNode(ImageNode):
    """An object of a snapshot. It cannot be changed."""

    def __init__(self, host: "SnapshotHost", path: str) -> None:
        super().__init__(host, path)
        self._snapshot = host

    def names(self) -> Iterator[str]:
        """The names in this directory; then ENODATA where these may not be all."""
        yield from self._snapshot.names_in(self.path)
        number = self._snapshot.trouble(self.path)
        if number:
            raise NotHeld(number, os.strerror(number), self.path)


class SnapshotTreeNode(SnapshotNode):
    """An object in one of the trees of a snapshot."""

    def survey(self, extent: Extent, progress: Progress) -> Survey:
        """All that is at and under this object."""
        return self._snapshot.survey(self.look(), extent, progress)


class SnapshotHost(ImageHost):
    """A host held in a snapshot with trees in columns; ``objects`` are those beside the trees."""

    def __init__(
        self, name: str, objects: Iterable[Object], accounts: Accounts, settings: Settings, held: SnapshotTrees
    ) -> None:
        super().__init__(name, objects, accounts, settings)
        self.held = held
        self.cut = held.cut
        self._tops, self._left_out = frozenset(held.tops), frozenset(held.left_out)
        self._errors = {trouble.path: trouble.errno for trouble in held.troubles}
        self._inside: dict[int, dict[str, int]] = {}

    # --- one by one ---

    def object_at(self, path: str) -> Object:
        """The object at ``path``; ENOENT where there is none, ENODATA where that is not known."""
        found = self.objects.get(path)
        if found is not None:
            return found
        place = self._place(path)
        if place is not None:
            return self._object(place, path)
        above = posixpath.dirname(path)
        number = self._errors.get(path, errno.ENOENT)
        if number == errno.ENOENT and path not in self._errors and self.trouble(above):
            raise NotHeld(errno.ENODATA, os.strerror(errno.ENODATA), path)
        raise error(number, path)

    def open(self, path: str) -> SnapshotNode:
        """The object at ``path`` as it was captured; OSError where nothing was there, NotHeld where it was not kept."""
        self.object_at(path)
        return SnapshotTreeNode(self, path) if self._in_trees(path) else SnapshotNode(self, path)

    def names_in(self, path: str) -> Iterable[str]:
        """The names in the directory ``path``, as far as they are known."""
        beside = super().names_in(path)
        number = self.held.entries.number.get(path)
        if number is None:
            return beside
        return dict.fromkeys([*self.held.entries.names.many(self._places(number)), *beside])

    def trouble(self, path: str) -> int:
        """Why the names in the directory ``path`` may not be all that there are; 0 where they are."""
        if path in self._errors:
            return self._errors[path]
        whole = self._in_trees(path) and path not in self.held.left_out
        if whole and self.held.cut:
            whole = path in self.held.entries.number and path != self.held.entries.path[-1]
        return 0 if whole else errno.ENODATA

    def _in_trees(self, path: str) -> bool:
        """Whether ``path`` is in a tree, and not in what is mounted there and was left out."""
        here, left_out = path, False
        while here not in self._tops:
            left_out |= here != path and here in self._left_out
            if here == "/":
                return False
            here = posixpath.dirname(here)
        return not left_out

    def _places(self, number: int) -> NDArray[np.int64]:
        first = int(self.held.entries.first[number])
        return np.arange(first, first + int(self.held.entries.counts[number]))

    def _place(self, path: str) -> int | None:
        above, _, name = path.rpartition("/")
        number = self.held.entries.number.get(above or "/")
        if number is None or not name:
            return None
        if number not in self._inside:
            places = self._places(number)
            names = self.held.entries.names.many(places)
            self._inside[number] = dict(zip(names, places.tolist(), strict=True))
        return self._inside[number].get(name)

    def _object(self, place: int, path: str) -> Object:
        entries = self.held.entries
        profile = self.held.profiles[int(entries.profile[place])]
        found = profile.at(path, int(entries.inode[place]), int(entries.links[place]), int(entries.birth[place]))
        status = Status(
            found.status.identity,
            found.status.links,
            int(entries.size[place]),
            None,
            profile.device,
            int(entries.modified[place]) or None,
        )
        return found._replace(status=status, target=entries.targets.get(place))

    # --- a whole tree ---

    def survey(self, top: Object, extent: Extent, progress: Progress) -> Survey:
        """All that is at and under ``top``, which is in one of the trees."""
        assembly = Assembly(top)
        below = [number for number, path in enumerate(self.held.entries.path) if lies_under(path, top.path)]
        chosen, skipped = self._chosen(top, below, extent)
        if chosen:
            assembly.add(self._batch(chosen, top, assembly, extent), [0])
            progress(assembly.entries, top.path)
        assembly.skipped += skipped
        gone = [f"{point}/" for point in skipped]
        for trouble in self.held.troubles:
            if lies_under(trouble.path, top.path) and not any(trouble.path.startswith(one) for one in gone):
                assembly.troubles.append(trouble)
        if top.path in self.held.left_out:
            assembly.troubles.append(Trouble(top.path, errno.ENODATA))
        if self.held.cut:
            assembly.troubles += self._not_known(top, chosen, extent)
        return assembly.survey()

    def _chosen(self, top: Object, below: Sequence[int], extent: Extent) -> tuple[list[int], list[str]]:
        """Those of the directories below ``top`` that the extent means, and the mount points that it leaves out."""
        entries = self.held.entries
        if extent.one_level:
            return [number for number in below if entries.path[number] == top.path], []
        skipped = [point for point in self.held.left_out if lies_under(point, top.path) and point != top.path]
        point_of = self.held.profiles.by_rest(lambda rest: rest.mount and rest.mount.point, np.object_)
        apart: set[str] = set()
        chosen: list[int] = []
        mounts: dict[str, str | None] = {top.path: _point(top)}
        for number in below:
            path = entries.path[number]
            if path == top.path:
                chosen.append(number)
                continue
            above = posixpath.dirname(path)
            place = int(entries.entry[number])
            mount = point_of[entries.profile[place]] if place >= 0 else _point(self.objects[path])
            mounts[path] = mount
            if above in apart or above not in mounts:
                apart.add(path)
            elif not extent.across_mounts and mount != mounts[above]:
                apart.add(path)
                skipped.append(path)
            elif place >= 0:
                chosen.append(number)
        return chosen, sorted({point for point in skipped if posixpath.dirname(point) not in apart})

    def _batch(self, chosen: Sequence[int], top: Object, assembly: Assembly, extent: Extent) -> Batch:
        """The entries of these directories, of which the first is the top."""
        entries, numbers = self.held.entries, np.array(chosen, np.int64)
        count = entries.counts[numbers]
        begins = np.cumsum(count) - count
        places = np.arange(int(count.sum())) + np.repeat(entries.first[numbers] - begins, count)
        # where the entry of each directory has come to stand: in the piece of the directory that holds it
        own = entries.entry[numbers]
        order = np.argsort(entries.first[numbers], kind="stable")
        holder = order[np.searchsorted(entries.first[numbers][order], own, side="right") - 1]
        directories = (own - entries.first[numbers][holder] + begins[holder]).astype(np.int32)
        directories[[entries.path[number] == top.path for number in chosen]] = -1
        data, lengths = entries.names.joined(places)
        details = extent.details
        at = {int(place): number for number, place in enumerate(places)} if details and entries.targets else {}
        targets = [(at[place], os.fsencode(path)) for place, path in entries.targets.items() if place in at]
        return Batch(
            profile=self._numbers(entries.profile[places], assembly),
            inode=entries.inode[places],
            links=entries.links[places],
            birth=entries.birth[places],
            name_lengths=lengths,
            names=data,
            directories=directories,
            counts=count.astype(np.int32),
            size=entries.size[places] if details else None,
            changed=np.zeros(len(places), np.int64) if details else None,
            modified=entries.modified[places] if details else None,
            targets=tuple(targets),
        )

    def _numbers(self, profile: NDArray[np.int32], assembly: Assembly) -> NDArray[np.int32]:
        """The numbers that the profiles have in the assembly, which takes those that are met."""
        seen = np.zeros(len(self.held.profiles), np.bool_)
        seen[profile] = True
        met = np.flatnonzero(seen)
        columns, into = self.held.profiles.columns, assembly.profiles
        lists = _each(columns.acl[met], lambda number: into.list_number(self.held.profiles.lists[number]))
        rests = _each(columns.rest[met], lambda number: into.rest_number(self.held.profiles.rests[number]))
        number = np.zeros(len(seen), np.int32)
        number[met] = assembly.new_numbers(Columns(columns.mode[met], columns.uid[met], columns.gid[met], lists, rests))
        return number[profile]

    def _not_known(self, top: Object, chosen: Sequence[int], extent: Extent) -> Iterator[Trouble]:
        """The directories of which a snapshot that was cut short does not know what is in them."""
        entries = self.held.entries
        if top.posture.directory and self.trouble(top.path):
            yield Trouble(top.path, errno.ENODATA)
        if extent.one_level:
            return
        directories = self.held.profiles.by_rest(lambda rest: rest.posture.directory)[entries.profile]
        for number in chosen:
            places = self._places(number)
            for name in entries.names.many(places[directories[places]]):
                path = posixpath.join(entries.path[number], name)
                if self.trouble(path) == errno.ENODATA and path not in self.held.left_out:
                    yield Trouble(path, errno.ENODATA)


def _each(numbers: NDArray[np.int64], of: Callable[[int], int]) -> NDArray[np.int64]:
    """What ``of`` says of each number, which it is asked once."""
    distinct, places = distinct_values(numbers)
    return np.array([of(number) for number in distinct.tolist()], np.int64)[places]


def _point(one: Object) -> str | None:
    return one.mount.point if one.mount else None
