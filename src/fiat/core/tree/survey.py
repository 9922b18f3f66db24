"""A whole tree held compactly: arrays, not one Python object for each path.

Entries that are alike in everything but name, inode and number of links are
of one *sort*, and a sort is held once. What access rules say of a tree is
then worked out for each sort, not for each path.

A host reads a tree in *batches*, in any order and perhaps in several
processes; :class:`Assembly` puts them together. The survey that comes out is
the same however the tree was cut up: entries stand parents first, each
directory's names sorted by their bytes.
"""

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.accounts import Accounts
from fiat.core.model.posture import Mount, Object, Posture, Status
from fiat.core.tree.below import Trouble
from fiat.core.words.selection import Selection

Numbers = NDArray[np.int32]


class Sort(NamedTuple):
    """What entries have in common; the fields are those of :class:`Object`.

    ``device`` is the number of the file system (``st_dev`` of stat(2)).
    """

    posture: Posture
    device: int = 0
    mount: Mount | None = None
    script: str | None = None
    label: str | None = None
    keeps_lists: bool | None = None
    unknown: tuple[tuple[str, int], ...] = ()

    def at(self, path: str, inode: int = 0, links: int = 1, birth: int = 0) -> Object:
        """An object of this sort at ``path``; its size and time are not known."""
        status = Status(links, 0, None, (self.device, inode), birth)
        return Object(
            path=path,
            posture=self.posture,
            status=status,
            mount=self.mount,
            label=self.label,
            script=self.script,
            keeps_lists=self.keeps_lists,
            unknown=self.unknown,
        )


def sort_of(found: Object) -> Sort:
    """The sort that ``found`` is of."""
    return Sort(
        found.posture,
        found.status.inode[0],
        found.mount,
        found.script,
        found.label,
        found.keeps_lists,
        found.unknown,
    )


class Batch(NamedTuple):
    """Directories that were read together.

    The entries of all of them stand one directory after the other, names
    sorted. For each entry: ``sort`` (into ``Assembly.sorts``), ``inode``,
    ``links``, ``birth`` (nanoseconds since the epoch, 0 where unknown), and
    ``name_lengths`` in bytes, the names themselves being joined in ``names``.
    For each directory: ``directories``, its place among the entries of this
    batch, or -1 less the place of a root, one of those that the batch began
    with; ``counts``, how many entries it has.
    """

    sort: Numbers
    inode: NDArray[np.uint64]
    links: NDArray[np.uint32]
    birth: NDArray[np.int64]
    name_lengths: NDArray[np.uint16]
    names: bytes
    directories: Numbers
    counts: Numbers


class Assembly:
    """Batches on their way to a survey, the entry 0 being ``top``."""

    def __init__(self, top: Object) -> None:
        self.top = top
        self.entries = 1
        self.sorts: list[Sort] = []
        self.troubles: list[Trouble] = []
        self.skipped: list[str] = []
        self.complete = True
        self._known: dict[Sort, int] = {}
        self._batches: list[Batch] = []
        self._parents: list[Numbers] = [np.full(1, -1, np.int32)]
        self._directories: list[Numbers] = []
        self.number(sort_of(top))

    def number(self, sort: Sort) -> int:
        """The number of ``sort``, a new one where it is new."""
        found = self._known.get(sort)
        if found is None:
            found = self._known[sort] = self.new_number(sort)
        return found

    def new_number(self, sort: Sort) -> int:
        """The number of a sort that is known to be new, which is cheaper than looking."""
        self.sorts.append(sort)
        return len(self.sorts) - 1

    def add(self, batch: Batch, roots: Sequence[int]) -> int:
        """Take ``batch``, which began with the entries ``roots``; the place of its first entry."""
        first = self.entries
        began = np.array(roots, np.int32)[np.clip(-1 - batch.directories, 0, len(roots) - 1)]
        directories = np.where(batch.directories < 0, began, batch.directories + first).astype(np.int32)
        self._parents.append(np.repeat(directories, batch.counts))
        self._directories.append(directories)
        self._batches.append(batch)
        self.entries += len(batch.sort)
        return first

    def survey(self) -> "Survey":
        """All batches as one survey; the assembly is empty afterwards."""
        parent = _joined(self._parents, np.int32)
        self._parents.clear()
        counts = _joined([np.zeros(0, np.int32), *(batch.counts for batch in self._batches)], np.int32)
        directories = _joined([np.zeros(0, np.int32), *self._directories], np.int32)
        place, end = _places(parent, directories, counts)
        status = self.top.status
        lengths = _joined([np.zeros(1, np.uint16), *(batch.name_lengths for batch in self._batches)], np.uint16)
        names = b"".join(batch.names for batch in self._batches)
        starts = np.zeros(self.entries, np.uint32 if len(names) < 1 << 32 else np.uint64)
        np.cumsum(lengths[:-1], out=starts[1:])
        sort = _joined([np.zeros(1, np.int32), *(batch.sort for batch in self._batches)], np.int32)
        inode = _joined([np.array([status.inode[1]], np.uint64), *(batch.inode for batch in self._batches)], np.uint64)
        links = _joined([np.array([status.links], np.uint32), *(batch.links for batch in self._batches)], np.uint32)
        birth = _joined([np.array([status.birth], np.int64), *(batch.birth for batch in self._batches)], np.int64)
        self._batches.clear()
        above = np.where(parent < 0, -1, place[parent]).astype(np.int32)
        del parent
        return Survey(
            top=self.top,
            sorts=self.sorts,
            parent=_moved(above, place),
            end=_moved(end, place),
            sort=_moved(sort, place),
            inode=_moved(inode, place),
            links=_moved(links, place),
            birth=_moved(birth, place),
            names=names,
            starts=_moved(starts, place),
            lengths=_moved(lengths, place),
            troubles=sorted(self.troubles),
            skipped=sorted(self.skipped),
            complete=self.complete,
        )


def _joined(parts: Sequence[NDArray[Any]], kind: type) -> NDArray[Any]:
    return np.concatenate(parts, dtype=kind, casting="unsafe")


def _moved(values: NDArray[Any], place: Numbers) -> NDArray[Any]:
    moved = np.empty_like(values)
    moved[place] = values
    return moved


def _places(parent: Numbers, directories: Numbers, counts: Numbers) -> tuple[Numbers, Numbers]:
    """For each entry, as they came: its place when parents stand first, and the place after the last one under it.

    ``directories`` lists the directories that were read, in the order of
    their entries, with the ``counts`` of these. Works level by level, from
    the deepest directories up for the sizes and down again for the places.
    """
    first = 1 + np.cumsum(counts, dtype=np.int64) - counts
    depth = np.zeros(len(parent), np.int32)
    levels: list[Numbers] = []
    reading = np.full(len(parent), -1, np.int32)  # which of the directories read an entry is
    reading[directories] = np.arange(len(directories), dtype=np.int32)
    level = reading[:1][reading[:1] >= 0]
    while len(level):
        levels.append(level)
        inside = _ranges(first[level], counts[level])
        depth[inside] = len(levels)
        below = reading[inside]
        level = below[below >= 0]
    size = np.ones(len(parent), np.int64)
    for level in reversed(levels):
        inside = _ranges(first[level], counts[level])
        total = np.bincount(
            np.repeat(np.arange(len(level)), counts[level]), weights=size[inside], minlength=len(level)
        ).astype(np.int64)
        size[directories[level]] += total
    before = np.cumsum(size[1:]) - size[1:]
    offset = np.zeros(len(parent), np.int64)
    if len(parent) > 1:
        offset[1:] = before - np.repeat(before[np.minimum(first - 1, len(before) - 1)], counts)
    place = np.zeros(len(parent), np.int32)
    for level in levels:
        inside = _ranges(first[level], counts[level])
        place[inside] = place[parent[inside]] + 1 + offset[inside]
    return place, (place + size).astype(np.int32)


def _ranges(starts: NDArray[np.int64], counts: Numbers) -> NDArray[np.int64]:
    """The numbers of all ranges, one range after the other."""
    total = int(counts.sum())
    if not total:
        return np.zeros(0, np.int64)
    shift = np.repeat(starts - (np.cumsum(counts, dtype=np.int64) - counts), counts)
    found: NDArray[np.int64] = np.arange(total, dtype=np.int64) + shift
    return found


def alone(top: Object) -> "Survey":
    """The survey of one object, without what is under it."""
    return Assembly(top).survey()


class Survey:
    """A tree. Entries are told by their places; place 0 is ``top``, parents stand before what is in them.

    For each entry: ``parent``, the place of its directory (-1 for the top);
    ``end``, the place after the last entry under it; ``sort``, into
    ``sorts``; ``inode``; ``links``; ``birth`` in nanoseconds since the epoch. ``troubles`` are what could not be looked
    at, ``skipped`` the mount points that were not entered. A survey that was
    stopped is not ``complete``.
    """

    def __init__(
        self,
        *,
        top: Object,
        sorts: list[Sort],
        parent: NDArray[Any],
        end: NDArray[Any],
        sort: NDArray[Any],
        inode: NDArray[Any],
        links: NDArray[Any],
        birth: NDArray[Any],
        names: bytes,
        starts: NDArray[Any],
        lengths: NDArray[Any],
        troubles: list[Trouble],
        skipped: list[str],
        complete: bool,
    ) -> None:
        self.top = top
        self.sorts = sorts
        self.parent: Numbers = parent
        self.end: Numbers = end
        self.sort: Numbers = sort
        self.inode: NDArray[np.uint64] = inode
        self.links: NDArray[np.uint32] = links
        self.birth: NDArray[np.int64] = birth
        self.troubles = troubles
        self.skipped = skipped
        self.complete = complete
        self._names = names
        self._starts = starts
        self._lengths = lengths

    def __len__(self) -> int:
        return len(self.sort)

    def name(self, place: int) -> str:
        """The name of an entry in its directory; that of the top is the last one of its path."""
        if not place:
            return self.top.path.rpartition("/")[2]
        start = int(self._starts[place])
        return self._names[start : start + int(self._lengths[place])].decode("utf-8", "surrogateescape")

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

    def paths_of(self, places: Iterator[int] | Sequence[int]) -> Iterator[tuple[int, str]]:
        """Each of ``places``, which ascend, with its path."""
        top = self.top.path.rstrip("/")
        names, starts, lengths = self._names, self._starts, self._lengths
        above: list[tuple[int, str]] = [(len(self), top)]  # directories: where each ends, and its path
        holds = [0]
        for place in places:
            if not place:
                yield 0, self.top.path
                continue
            while above[-1][0] <= place:
                above.pop()
                holds.pop()
            parent = int(self.parent[place])
            if holds[-1] != parent:
                chain = []
                while holds[-1] != parent:
                    chain.append(parent)
                    parent = int(self.parent[parent])
                for directory in reversed(chain):
                    above.append((int(self.end[directory]), f"{above[-1][1]}/{self.name(directory)}"))
                    holds.append(directory)
            start = int(starts[place])
            name = names[start : start + int(lengths[place])].decode("utf-8", "surrogateescape")
            yield place, f"{above[-1][1]}/{name}"

    def object(self, place: int, path: str | None = None) -> Object:
        """The entry at ``place`` as an object."""
        if not place:
            return self.top
        sort = self.sorts[int(self.sort[place])]
        return sort.at(path or self.path(place), int(self.inode[place]), int(self.links[place]), int(self.birth[place]))

    def device(self, place: int) -> int:
        """The number of the file system that the entry at ``place`` is on."""
        return self.sorts[int(self.sort[place])].device

    def directories(self) -> NDArray[np.bool_]:
        """For each entry, whether it is a directory."""
        kinds = np.fromiter((sort.posture.directory for sort in self.sorts), np.bool_, len(self.sorts))
        found: NDArray[np.bool_] = kinds[self.sort]
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

    def chosen(self, selection: Selection, accounts: Accounts) -> NDArray[np.bool_]:
        """For each entry, whether ``selection`` takes it."""
        kinds = np.fromiter(
            (selection.takes_posture(sort.posture, accounts) for sort in self.sorts), np.bool_, len(self.sorts)
        )
        found: NDArray[np.bool_] = kinds[self.sort]
        if selection.name is not None:
            for place in np.flatnonzero(found).tolist():
                found[place] = selection.takes_name(self.name(place))
        return found
