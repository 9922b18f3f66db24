"""Putting a survey together from what was read of a tree in pieces.

A host reads a tree in *batches*, in any order and perhaps in several
processes; :class:`Assembly` puts them together. The survey that comes out is
the same however the tree was cut up: entries stand parents first, each
directory's names sorted by their bytes.
"""

import os
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.posture import Object
from fiat.core.tree.distinct import distinct_columns, first_places
from fiat.core.tree.names import Names
from fiat.core.tree.profile import Profile, profile_of
from fiat.core.tree.profiles import Columns, Profiles
from fiat.core.tree.survey import Details, Numbers, Survey
from fiat.core.tree.walk import Trouble


def with_joint_profiles(one: Survey, other: Survey) -> tuple[Survey, Survey]:
    """Two trees so numbered that profiles with the same number are the same on both sides.

    What is another with each start of the machine, and decides nothing, is left out of
    them: the number of the device, and what other mounts show of the file system.
    """
    joint = Profiles()
    columns = [_renumbered(survey.profiles, joint) for survey in (one, other)]
    together = Columns(*(np.concatenate(pair) for pair in zip(*columns, strict=True)))
    first, number = distinct_columns(*together)
    joint.extend(Columns(*(column[first] for column in together)))
    count = len(one.profiles)
    return (
        one.with_profiles(joint, number[:count][one.profile].astype(np.int32)),
        other.with_profiles(joint, number[count:][other.profile].astype(np.int32)),
    )


def _renumbered(profiles: Profiles, joint: Profiles) -> Columns:
    """The columns of profiles, with the numbers that their lists and rests have in ``joint``."""
    lists = np.array([joint.list_number(acl) for acl in profiles.lists], np.int64)
    rests = np.array([joint.rest_number(_lasting(rest)) for rest in profiles.rests], np.int64)
    columns = profiles.columns
    return columns._replace(acl=lists[columns.acl], rest=rests[columns.rest])


def _lasting(rest: Profile) -> Profile:
    mount = rest.mount._replace(beside=()) if rest.mount is not None else None
    return rest._replace(device=0, mount=mount)


class Batch(NamedTuple):
    """Directories that were read together.

    The entries of all of them stand one directory after the other, names
    sorted. For each entry: ``profile`` (into ``Assembly.profiles``), ``inode``,
    ``links``, ``birth`` (nanoseconds since the epoch, 0 where unknown), and
    ``name_lengths`` in bytes, the names themselves being joined in ``names``.
    Where they were asked for: ``size``, ``changed``, ``modified`` and ``targets`` as in
    :class:`Details`, the links by their place in the batch.
    For each directory: ``directories``, its place among the entries of this
    batch, or -1 less the place of a root, one of those that the batch began
    with; ``counts``, how many entries it has.
    """

    profile: Numbers
    inode: NDArray[np.uint64]
    links: NDArray[np.uint32]
    birth: NDArray[np.int64]
    name_lengths: NDArray[np.uint16]
    names: bytes
    directories: Numbers
    counts: Numbers
    size: NDArray[np.int64] | None = None
    changed: NDArray[np.int64] | None = None
    modified: NDArray[np.int64] | None = None
    targets: tuple[tuple[int, bytes], ...] = ()


def in_one(batches: Sequence[Batch]) -> Batch:
    """Batches that each hold some of the entries of one directory, and no others, as one."""

    def joined(column: Callable[[Batch], NDArray[Any] | None]) -> NDArray[Any]:
        return np.concatenate([values for batch in batches if (values := column(batch)) is not None])

    first = np.cumsum([0, *(len(batch.profile) for batch in batches)]).tolist()
    details = all(batch.size is not None for batch in batches)
    return Batch(
        profile=joined(lambda batch: batch.profile),
        inode=joined(lambda batch: batch.inode),
        links=joined(lambda batch: batch.links),
        birth=joined(lambda batch: batch.birth),
        name_lengths=joined(lambda batch: batch.name_lengths),
        names=b"".join(batch.names for batch in batches),
        directories=np.array([-1], np.int32),
        counts=np.array([first[-1]], np.int32),
        size=joined(lambda batch: batch.size) if details else None,
        changed=joined(lambda batch: batch.changed) if details else None,
        modified=joined(lambda batch: batch.modified) if details else None,
        targets=tuple(
            (begin + place, target)
            for begin, batch in zip(first, batches, strict=False)
            for place, target in batch.targets
        ),
    )


class Assembly:
    """Batches on their way to a survey, the entry 0 being ``top``."""

    def __init__(self, top: Object) -> None:
        self.top = top
        self.entries = 1
        self.profiles = Profiles()
        self.troubles: list[Trouble] = []
        self.skipped: list[str] = []
        self.complete = True
        self.bounded = False
        self._known: dict[Profile, int] = {}
        self._batches: list[Batch] = []
        self._parents: list[Numbers] = [np.full(1, -1, np.int32)]
        self._directories: list[Numbers] = []
        self.number(profile_of(top))

    def number(self, profile: Profile) -> int:
        """The number of ``profile``, a new one where it is new."""
        found = self._known.get(profile)
        if found is None:
            found = self._known[profile] = self.profiles.append(profile)
        return found

    def new_numbers(self, columns: Columns) -> Numbers:
        """The numbers of profiles that none of the batches had before, which is cheaper than looking for them."""
        first, count = len(self.profiles), len(columns.mode)
        self.profiles.extend(columns)
        numbers = np.arange(first, first + count, dtype=np.int32)
        top = np.all([new == known[0] for new, known in zip(columns, self.profiles.columns, strict=True)], axis=0)
        numbers[top] = 0  # that of the top is there from the beginning
        return numbers

    def add(self, batch: Batch, roots: Sequence[int]) -> int:
        """Take ``batch``, which began with the entries ``roots``; the number of its first entry."""
        first = self.entries
        began = np.array(roots, np.int32)[np.clip(-1 - batch.directories, 0, len(roots) - 1)]
        directories = np.where(batch.directories < 0, began, batch.directories + first).astype(np.int32)
        self._parents.append(np.repeat(directories, batch.counts))
        self._directories.append(directories)
        self._batches.append(batch)
        self.entries += len(batch.profile)
        return first

    def survey(self) -> Survey:
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
        profile = _joined([np.zeros(1, np.int32), *(batch.profile for batch in self._batches)], np.int32)
        inode = _joined(
            [np.array([status.identity.inode], np.uint64), *(batch.inode for batch in self._batches)], np.uint64
        )
        links = _joined([np.array([status.links], np.uint32), *(batch.links for batch in self._batches)], np.uint32)
        birth = _joined(
            [np.array([status.identity.birth], np.int64), *(batch.birth for batch in self._batches)], np.int64
        )
        details = self._details(place)
        self._batches.clear()
        profiles, profile = _in_order(self.profiles, _moved(profile, place))
        above = np.where(parent < 0, -1, place[parent]).astype(np.int32)
        del parent
        return Survey(
            top=self.top,
            profiles=profiles,
            parent=_moved(above, place),
            end=_moved(end, place),
            profile=profile,
            inode=_moved(inode, place),
            links=_moved(links, place),
            birth=_moved(birth, place),
            names=Names(names, _moved(starts, place), _moved(lengths, place)),
            troubles=sorted(set(self.troubles)),
            skipped=sorted(self.skipped),
            complete=self.complete,
            bounded=self.bounded,
            details=details,
        )

    def _details(self, place: Numbers) -> Details | None:
        if any(batch.size is None for batch in self._batches):
            return None
        status = self.top.status
        size = [np.array([status.size], np.int64), *(batch.size for batch in self._batches if batch.size is not None)]
        changed = [np.array([status.changed or 0], np.int64)]
        changed += [batch.changed for batch in self._batches if batch.changed is not None]
        modified = [np.array([status.modified or 0], np.int64)]
        modified += [batch.modified for batch in self._batches if batch.modified is not None]
        targets: dict[int, str] = {}
        first = 1
        for batch in self._batches:
            targets |= {int(place[first + link]): os.fsdecode(target) for link, target in batch.targets}
            first += len(batch.profile)
        return Details(
            _moved(_joined(size, np.int64), place),
            _moved(_joined(changed, np.int64), place),
            _moved(_joined(modified, np.int64), place),
            targets,
        )


def _in_order(profiles: Profiles, profile: Numbers) -> tuple[Profiles, Numbers]:
    """The profiles in the order of the first entry with each, however the tree was cut up; and the entries' numbers."""
    order = np.argsort(first_places(profile, len(profiles)), kind="stable")
    number = np.empty(len(order), np.int32)
    number[order] = np.arange(len(order), dtype=np.int32)
    return profiles.taken(order).in_order_of_use(), number[profile]


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


def survey_of_one(top: Object) -> Survey:
    """The survey of one object, without what is under it."""
    return Assembly(top).survey()
