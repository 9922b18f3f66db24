"""The trees of a snapshot in columns: arrays over all entries, directory after directory, and profiles by number."""

from array import array
from collections.abc import Mapping, Sequence
from operator import ge
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.errors import SnapshotError
from fiat.core.model import record
from fiat.core.model.posture import Kind, Mount
from fiat.core.model.schema import Listed
from fiat.core.text import quoted
from fiat.core.tree.names import Names
from fiat.core.tree.profiles import Columns, Profiles
from fiat.host.snapshot import records

_COLUMNS = {"profile": "q", "inode": "Q", "links": "q", "birth": "q", "size": "q", "modified": "q"}
"""The columns of entries, and the kind of number (module array) in each."""

_HELD = {"profile": np.int32, "inode": np.uint64, "links": np.uint32}
"""What columns are held in, but those in 64 bits with a sign."""

_SIGNED = -(1 << 63), (1 << 63) - 1
_LIMITS = {"inode": (0, (1 << 64) - 1), "links": (0, (1 << 32) - 1), "size": (0, (1 << 63) - 1)}
_LONGEST = 255
"""Bytes of a name (``NAME_MAX``)."""

_MODES = Listed(record.MODE)


class Entries(NamedTuple):
    """The entries of all directories in columns.

    Of each directory ``first`` is the place of its first entry, ``counts`` how
    many it has, and ``number`` its own number, by its path.
    ``targets`` are where symlinks lead, by the place of the link. ``entry`` is
    for each directory the place of its own entry, -1 for the top of a tree;
    ``path`` are their paths in the order in which their entries stand.
    """

    names: Names
    profile: NDArray[np.int32]
    inode: NDArray[np.uint64]
    links: NDArray[np.uint32]
    birth: NDArray[np.int64]
    size: NDArray[np.int64]
    modified: NDArray[np.int64]
    targets: dict[int, str]
    path: list[str]
    first: NDArray[np.int64]
    counts: NDArray[np.int64]
    entry: NDArray[np.int64]
    number: dict[str, int]


class _Numbers:
    """One column of whole numbers on its way in, many lines of it."""

    def __init__(self, name: str, kind: str) -> None:
        self.name = name
        self._values = array(kind)
        self._from = array(kind)
        self._counts = array("q")

    def take(self, data: Any, count: int) -> None:
        """So many more: a list of them, ``{"from": least, "plus": list}``, or one that stands for all."""
        base: Any = 0
        if isinstance(data, dict):
            base, data = data.get("from"), data.get("plus")
        elif isinstance(data, int):
            data = [data] * count
        if not isinstance(data, list) or len(data) != count:
            raise SnapshotError(f"{self.name} is right with {count} whole numbers, as many as there are names or modes")
        try:
            self._from.append(base)
            self._values.extend(data)
        except (TypeError, OverflowError) as error:
            raise SnapshotError(f"{self.name} is right with whole numbers alone, of 64 bits") from error
        self._counts.append(count)

    def all(self, least: int, most: int) -> NDArray[Any]:
        """All of them, none of which may be below ``least`` or above ``most``."""
        values, base = np.array(self._values), np.repeat(np.array(self._from), np.array(self._counts))
        found: NDArray[Any] = values + base
        beyond = bool(((found < values) & (base > 0)).any())  # more than 64 bits have room for
        if beyond or (len(found) and (int(found.min()) < least or int(found.max()) > most)):
            raise SnapshotError(f"in {self.name} is a number that is not from {least} to {most}")
        return found.astype(_HELD.get(self.name, np.int64), copy=False)


class ColumnsReader:
    """Takes the lines of lists, rests, profiles and directories, and puts them together."""

    def __init__(self) -> None:
        self.profiles = Profiles()
        self._numbers: tuple[list[int], list[int]] = [0], []
        self._directories: list[str] = []
        self._counts: list[int] = []
        self._names: list[bytes] = []
        self._lengths = array("H")
        self._columns = [_Numbers(name, kind) for name, kind in _COLUMNS.items()]
        self._targets: dict[int, str] = {}
        self._entries = 0
        self._last = b""

    # --- what entries have in common ---

    def take_list(self, data: Any) -> None:
        """One access list: the next number."""
        self._numbers[0].append(self.profiles.list_number(record.LIST.read(data, "list")))

    def take_rest(self, data: Any, mounts: Sequence[Mount]) -> None:
        """One rest: the next number."""
        found = records.REST.read(data, "rest")
        if found.mount is not None and found.mount >= len(mounts):
            raise SnapshotError(f"rest.mount is {found.mount}, and there are {len(mounts)} mounts")
        mount = None if found.mount is None else mounts[found.mount]
        self._numbers[1].append(self.profiles.rest_number(found.profile._replace(mount=mount)))

    def take_profiles(self, data: Any) -> None:
        """Profiles in columns: the next numbers."""
        if not isinstance(data, Mapping):
            raise SnapshotError("profiles is no object with a column for each part of a profile")
        mode = np.array(_MODES.read(data.get("mode"), "profiles.mode"), np.int64)
        lists, rests = (np.array(numbers, np.int64) for numbers in self._numbers)
        most = {
            "owner": record.OWNER_ID.most,
            "group": record.OWNER_ID.most,
            "list": len(lists) - 1,
            "rest": len(rests) - 1,
        }
        columns = []
        for name, largest in most.items():
            column = _Numbers(f"profiles.{name}", "q")
            column.take(data.get(name), len(mode))
            columns.append(column.all(0, largest))
        uid, gid, acl, rest = columns
        self.profiles.extend(Columns(mode, uid, gid, lists[acl], rests[rest]))

    # --- entries ---

    def take_directory(self, fields: Mapping[str, Any]) -> None:
        """Some entries of one directory; those of one that has several lines come directly after each other."""
        path = record.PATH.read(fields.get("directory"), "directory")
        names = fields.get("names")
        if not isinstance(names, list) or not names:
            raise SnapshotError("names is right as a list of the names in the directory")
        goes_on = bool(self._directories) and self._directories[-1] == path
        self._take_names(names, goes_on)
        count = len(names)
        for column in self._columns:
            column.take(fields.get(column.name), count)
        self._take_targets(fields.get("targets"), names)
        if goes_on:
            self._counts[-1] += count
        else:
            self._directories.append(path)
            self._counts.append(count)
        self._entries += count

    def _take_names(self, names: list[str], goes_on: bool) -> None:
        """Names stand in the order of their bytes, each once, as nothing else would be a directory."""
        try:
            joined = "".join(names)
            ordered: Sequence[Any] = names
            raw = b""
            if joined.isascii():
                raw = joined.encode()
            else:
                ordered = [name.encode("utf-8", "surrogateescape") for name in names]
                raw = b"".join(ordered)
        except (TypeError, UnicodeEncodeError) as error:
            raise SnapshotError("names is right as a list of the names in the directory") from error
        if "/" in joined or "\0" in joined or not all(names) or "." in names or ".." in names:
            raise SnapshotError("names holds what is no name of an entry")
        first, last = (one if isinstance(one, bytes) else one.encode() for one in (ordered[0], ordered[-1]))
        if any(map(ge, ordered, ordered[1:])) or (goes_on and self._last >= first):
            raise SnapshotError("names do not stand in the order of their bytes, each once")
        self._last = last
        lengths = list(map(len, ordered))
        if max(lengths) > _LONGEST:
            raise SnapshotError(f"names holds one of more than {_LONGEST} bytes")
        self._lengths.extend(lengths)
        self._names.append(raw)

    def _take_targets(self, data: Any, names: list[str]) -> None:
        if data is None:
            return
        place = {name: self._entries + number for number, name in enumerate(names)}
        if not isinstance(data, Mapping):
            raise SnapshotError("targets is no object")
        for name, target in data.items():
            if name not in place or not isinstance(target, str) or not target:
                raise SnapshotError(f"targets speaks of {quoted(str(name)[:80])}, and that is no symlink in names")
            self._targets[place[name]] = target

    # --- the whole ---

    def entries(self, tops: Sequence[str]) -> Entries:
        """All entries; SnapshotError where a directory has none itself."""

        kinds = {column.name: _LIMITS.get(column.name, _SIGNED) for column in self._columns}
        kinds["profile"] = 0, len(self.profiles) - 1
        columns = {column.name: column.all(*kinds[column.name]) for column in self._columns}
        lengths = np.array(self._lengths)
        starts = np.cumsum(lengths, dtype=np.int64) - lengths
        count = np.array(self._counts, np.int64)
        first = np.cumsum(count) - count
        names = Names(b"".join(self._names), starts, lengths)
        number: dict[str, int] = {}
        for place, path in enumerate(self._directories):
            if number.setdefault(path, place) != place:
                raise SnapshotError(f"it has lines of {quoted(path)} apart from each other")
        self._check_links(columns["profile"])
        found = Entries(
            names=names,
            **columns,
            targets=self._targets,
            path=self._directories,
            first=first,
            counts=count,
            entry=np.full(len(count), -1, np.int64),
            number=number,
        )
        self._find_entries(found, tops)
        return found

    def _check_links(self, profile: NDArray[np.int32]) -> None:
        links = np.flatnonzero(self.profiles.by_rest(lambda rest: rest.posture.kind is Kind.SYMLINK)[profile])
        if len(links) != len(self._targets) or not all(place in self._targets for place in links.tolist()):
            raise SnapshotError("targets does not say of each symlink, and of nothing else, where it leads")

    def _find_entries(self, found: Entries, tops: Sequence[str]) -> None:
        """Where the entry of each directory is, in the directory that holds it."""
        directories = self.profiles.by_rest(lambda rest: rest.posture.directory)[found.profile]
        known: dict[int, dict[str, int]] = {}
        for number, path in enumerate(found.path):
            above, _, name = path.rpartition("/")
            holder = found.number.get(above or "/", number)
            if path in tops and holder >= number:
                continue
            if holder >= number:
                raise SnapshotError(f"it has entries of {quoted(path)}, and none, before them, for that itself")
            if holder not in known:
                known = {holder: _named(found, holder, directories)}  # as they stand, one at a time will mostly do
            place = known[holder].get(name)
            if place is None:
                raise SnapshotError(f"it has entries of {quoted(path)}, which is no directory in it")
            found.entry[number] = place


def _named(found: Entries, holder: int, directories: NDArray[np.bool_]) -> dict[str, int]:
    """The directories in a directory: the places of their entries by name."""
    first = int(found.first[holder])
    places = first + np.flatnonzero(directories[first : first + int(found.counts[holder])])
    return dict(zip(found.names.many(places), places.tolist(), strict=True))
