"""The trees of a snapshot in columns: arrays over all entries, directory after directory, and profiles by number."""

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from fiat.core.errors import SnapshotError
from fiat.core.model import record
from fiat.core.model.accesslist import AccessList
from fiat.core.model.kind import Kind
from fiat.core.model.mount import Mount
from fiat.core.model.schema import Listed
from fiat.core.text import quoted
from fiat.core.tree.names import Names
from fiat.core.tree.profile import Profile
from fiat.core.tree.profiles import Columns, Profiles
from fiat.core.typed import Any, NamedTuple
from fiat.host.snapshot import records

_NUMBERS: dict[str, Any] = {
    "profile": np.int32,
    "inode": np.uint64,
    "links": np.uint32,
    "birth": np.int64,
    "size": np.int64,
    "modified": np.int64,
}
"""The columns of entries, and what each is held in."""

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


class ColumnsReader:
    """Takes the lines of lists, rests, profiles and directories, and puts them together."""

    def __init__(self) -> None:
        self.profiles = Profiles()
        self._lists: list[AccessList | None] = [None]
        self._rests: list[Profile] = []
        self._directories: list[str] = []
        self._counts: list[int] = []
        self._names: list[bytes] = []
        self._lengths: list[NDArray[np.uint16]] = []
        self._columns: dict[str, list[NDArray[Any]]] = {name: [] for name in _NUMBERS}
        self._targets: dict[int, str] = {}
        self._entries = 0
        self._last = b""

    # --- what entries have in common ---

    def take_list(self, data: Any) -> None:
        """One access list: the next number."""
        self._lists.append(record.LIST.read(data, "list"))

    def take_rest(self, data: Any, mounts: Sequence[Mount]) -> None:
        """One rest: the next number."""
        found = records.REST.read(data, "rest")
        if found.mount is not None and found.mount >= len(mounts):
            raise SnapshotError(f"rest.mount is {found.mount}, and there are {len(mounts)} mounts")
        mount = None if found.mount is None else mounts[found.mount]
        self._rests.append(found.profile._replace(mount=mount))

    def take_profiles(self, data: Any) -> None:
        """Profiles in columns: the next numbers."""
        if not isinstance(data, Mapping):
            raise SnapshotError("profiles is no object with a column for each part of a profile")
        words = _MODES.read(data.get("mode"), "profiles.mode")
        mode = np.array(words, np.int64)
        count = len(mode)
        largest = record.ID.most
        uid, gid = (_column(data.get(name), count, f"profiles.{name}", 0, largest) for name in ("owner", "group"))
        acl = _column(data.get("list"), count, "profiles.list", 0, len(self._lists) - 1)
        rest = _column(data.get("rest"), count, "profiles.rest", 0, len(self._rests) - 1)
        lists = np.array([self.profiles.list_number(one) for one in self._lists], np.int64)
        rests = np.array([self.profiles.rest_number(one) for one in self._rests], np.int64)
        self.profiles.extend(Columns(mode, uid.astype(np.int64), gid.astype(np.int64), lists[acl], rests[rest]))

    # --- entries ---

    def take_directory(self, fields: Mapping[str, Any]) -> None:
        """Some entries of one directory; those of one that has several lines come directly after each other."""
        path = record.PATH.read(fields.get("directory"), "directory")
        names = fields.get("names")
        if not isinstance(names, list) or not all(isinstance(name, str) for name in names) or not names:
            raise SnapshotError("names is right as a list of the names in the directory")
        goes_on = bool(self._directories) and self._directories[-1] == path
        raw, lengths = _bytes_of(names)
        self._check_names(names, raw, goes_on)
        count = len(names)
        for name, column in self._columns.items():
            limits: Any = np.iinfo(_NUMBERS[name])
            most = len(self.profiles) - 1 if name == "profile" else int(limits.max)
            least = 0 if name in ("profile", "size") else int(limits.min)
            column.append(_column(fields.get(name), count, name, least, most).astype(_NUMBERS[name]))
        self._take_targets(fields.get("targets"), names)
        self._names.append(b"".join(raw) if isinstance(raw, list) else raw)
        self._lengths.append(lengths)
        if goes_on:
            self._counts[-1] += count
        else:
            self._directories.append(path)
            self._counts.append(count)
        self._entries += count

    def _check_names(self, names: list[str], raw: bytes | list[bytes], goes_on: bool) -> None:
        """Names stand in the order of their bytes, each once, as nothing else would be a directory."""
        joined = "".join(names)
        if "/" in joined or "\0" in joined or not all(names) or "." in names or ".." in names:
            raise SnapshotError("names holds what is no name of an entry")
        ordered: Sequence[Any] = raw if isinstance(raw, list) else names
        first, last = (ordered[0], ordered[-1]) if isinstance(raw, list) else (names[0].encode(), names[-1].encode())
        if any(map(_not_before, ordered, ordered[1:])) or (goes_on and self._last >= first):
            raise SnapshotError("names do not stand in the order of their bytes, each once")
        self._last = last

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

        def joined(parts: list[Any], kind: Any) -> NDArray[Any]:
            return np.concatenate([np.zeros(0, kind), *parts])

        columns = {name: joined(parts, _NUMBERS[name]) for name, parts in self._columns.items()}
        lengths = joined(self._lengths, np.uint16)
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


def _not_before(one: Any, other: Any) -> bool:
    return bool(one >= other)


def _bytes_of(names: list[str]) -> tuple[bytes | list[bytes], NDArray[np.uint16]]:
    """The bytes of the names, apart where they are not all ASCII; and how many each has."""
    joined = "".join(names)
    try:
        raw: bytes | list[bytes] = (
            joined.encode("ascii") if joined.isascii() else [name.encode("utf-8", "surrogateescape") for name in names]
        )
    except UnicodeEncodeError as error:
        raise SnapshotError("names holds what is no bytes of a name") from error
    lengths = [len(name) for name in (raw if isinstance(raw, list) else names)]
    if max(lengths) > 255:
        raise SnapshotError("names holds one of more than 255 bytes")
    return raw, np.array(lengths, np.uint16)


def _column(data: Any, count: int, place: str, least: int, most: int) -> NDArray[Any]:
    """Whole numbers: a list of them, ``{"from": least, "plus": list}``, or one that stands for all."""
    base: Any = 0
    if isinstance(data, Mapping):
        base, data = data.get("from"), data.get("plus")
        if not _whole(base) or not isinstance(data, list):
            raise SnapshotError(f'{place} is right as a list of numbers, or as {{"from": number, "plus": list}}')
    if _whole(data):
        data = [data] * count
    if not isinstance(data, list) or len(data) != count:
        raise SnapshotError(f"{place} is right with {count} whole numbers, as many as there are names or modes")
    try:
        values = np.array(data)
    except (ValueError, OverflowError):
        values = np.zeros(0)
    if values.dtype.kind not in "iu" or len(values.shape) != 1 or base + int(values.min()) < least:
        raise SnapshotError(f"{place} is right with whole numbers, none below {least}")
    if base + int(values.max()) > most:
        raise SnapshotError(f"{place} has {base + int(values.max())}, and {most} is the largest that is right")
    if base and base + int(values.max()) >= 1 << 63:
        return values.astype(np.uint64) + np.uint64(base)
    return values + base if base else values


def _whole(data: Any) -> bool:
    return isinstance(data, int) and not isinstance(data, bool)
