"""Reads directories in bulk: one status call and one call for the names of the attributes, for each entry.

The answers of statx(2) stay in one buffer until there are a few thousand;
then NumPy finds which entries are of one sort. Only what a sort needs is made
into objects.
"""

import errno
import os
import stat
from array import array
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.accesslist import ACCESS_XATTR
from fiat.core.below import Trouble
from fiat.core.posture import Posture
from fiat.core.survey import Batch, Sort, sort_of
from fiat.host import attributes, statx
from fiat.host.attributes import KNOWN_FILE_SYSTEMS, NOTHING, Attributes, Raw
from fiat.host.node import FLAG_NAMES, KINDS, LiveNode, Mounts, flag_names, interpreter_at

_CHUNK = 2048
_FLAGS = sum(bit for bit, _ in FLAG_NAMES)
_DIRECTORY, _FILE, _LINK = stat.S_IFDIR, stat.S_IFREG, stat.S_IFLNK
_OPEN_DIRECTORY = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_NONBLOCK

_ANSWER = np.dtype(
    {
        "names": [name for name, _, _ in statx.LAYOUT],
        "formats": [kind for _, kind, _ in statx.LAYOUT],
        "offsets": [offset for _, _, offset in statx.LAYOUT],
        "itemsize": statx.SIZE,
    }
)
_MIX = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9, 0xD6E8FEB86659FD93], np.uint64)


class Directory(NamedTuple):
    """A directory still to be read: its entry in the batch it was found in, and its names from the top down."""

    entry: int
    names: tuple[bytes, ...]


class Part(NamedTuple):
    """What one call of :meth:`TreeReader.read` has read.

    ``sorts`` are those not met before, numbered from ``first_sort``;
    ``unread`` the directories that were found and not read.
    """

    batch: Batch
    first_sort: int
    sorts: list[Sort]
    unread: list[Directory]
    troubles: list[Trouble]
    skipped: list[str]
    at: str


class TreeReader:
    """Reads the directories of one tree, each time as many as asked for.

    ``top`` is a handle of the top directory. Changes the current directory of
    the process while it reads.
    """

    def __init__(self, mounts: Mounts, top: int, path: str, *, across_mounts: bool) -> None:
        self._mounts = mounts
        self._top = top
        self._path = path.rstrip("/")
        self._across = across_mounts
        self._statx = statx.Statx(_CHUNK)
        self._handles = statx.Statx()
        self._words = memoryview(self._statx.buffer).cast("B").cast("H")
        self._mount_ids = memoryview(self._statx.buffer).cast("B").cast("Q")
        self._answers: NDArray[np.void] = np.frombuffer(memoryview(self._statx.buffer).cast("B"), _ANSWER)
        self._attributes = [Attributes()]
        self._known_attributes: dict[Raw, int] = {NOTHING: 0}
        self._scripts: list[str | None] = [None]
        self._known_scripts: dict[str, int] = {}
        self._sorts: list[Sort] = []
        self._known_rows: dict[bytes, int] = {}
        self._known_sorts: dict[Sort, int] = {}
        self._keeps_lists: dict[int, bool | None] = {}  # by mount
        self._start()

    def fresh(self) -> "TreeReader":
        """A reader of the same tree that knows nothing yet, for another process."""
        return TreeReader(self._mounts, self._top, self._path, across_mounts=self._across)

    def _start(self) -> None:
        """Begin a part."""
        self._first_sort = len(self._sorts)
        self._filled = 0
        self._attribute_numbers = array("I")
        self._script_numbers = array("I")
        self._forced = array("i")
        self._chunks: list[tuple[NDArray[np.int32], NDArray[np.uint64], NDArray[np.uint32], NDArray[np.int64]]] = []
        self._names: list[bytes] = []
        self._directories = array("i")
        self._counts = array("i")
        self._troubles: list[Trouble] = []
        self._skipped: list[str] = []
        self._entries = 0

    def read(self, roots: Sequence[tuple[bytes, ...]], most: int) -> Part:
        """Read the directories ``roots``, given as names from the top, and what is under them.

        Stops after the directory with which ``most`` entries are reached.
        Directories in the batch are told as :class:`Batch` says, a root as -1
        less its place in ``roots``.
        """
        self._start()
        unread: list[Directory] = []
        home = os.open(".", os.O_PATH)
        try:
            for number, names in enumerate(roots):
                if self._entries >= most:
                    unread.append(Directory(-1 - number, names))
                    continue
                try:
                    fd = self._open(names)
                except OSError as error:
                    self._trouble(names, error)
                    continue
                unread += self._read_below(fd, Directory(-1 - number, names), most)
            self._sort_chunk()
        finally:
            os.fchdir(home)
            os.close(home)
        at = unread[-1].names if unread else roots[-1]
        return Part(
            self._batch(),
            self._first_sort,
            self._sorts[self._first_sort :],
            unread,
            self._troubles,
            self._skipped,
            self._path_of(at) or "/",
        )

    def _open(self, names: tuple[bytes, ...]) -> int:
        """Open the directory with these names, one after the other, no link followed."""
        here = os.open(".", _OPEN_DIRECTORY, dir_fd=self._top) if not names else self._top
        for place, name in enumerate(names):
            last = place == len(names) - 1
            try:
                found = os.open(name, _OPEN_DIRECTORY if last else _OPEN_DIRECTORY | os.O_PATH, dir_fd=here)
            finally:
                if place:
                    os.close(here)
            here = found
        return here

    def _read_below(self, fd: int, root: Directory, most: int) -> Iterator[Directory]:
        """Read a directory and what is under it, depth first; what is left unread when there are enough entries."""
        waiting: list[tuple[int, tuple[bytes, ...], Iterator[tuple[int, bytes]]]] = []

        def enter(fd: int, directory: Directory) -> None:
            try:
                inside = self._read_one(fd, directory)
            except OSError as error:
                self._trouble(directory.names, error)
                inside = []
            if inside:
                waiting.append((fd, directory.names, iter(inside)))
            else:
                os.close(fd)

        enter(fd, root)
        while waiting and self._entries < most:
            above, names, inside = waiting[-1]
            entry, name = next(inside, (-1, b""))
            if entry < 0:
                waiting.pop()
                os.close(above)
                continue
            directory = Directory(entry, (*names, name))
            try:
                fd = os.open(name, _OPEN_DIRECTORY, dir_fd=above)
            except OSError as error:
                self._trouble(directory.names, error)
                continue
            enter(fd, directory)
        for above, names, inside in waiting:
            os.close(above)
            for entry, name in inside:
                yield Directory(entry, (*names, name))

    def _read_one(self, fd: int, directory: Directory) -> list[tuple[int, bytes]]:
        """Read one directory; the entries in it that are directories to be read."""
        os.fchdir(fd)
        names = os.listdir(b".")
        names.sort()
        mount = self._handles.handle(fd).mount
        known = self._mounts.mount_with_id(mount)
        bulk = known is not None and known.type in KNOWN_FILE_SYSTEMS
        if bulk and mount not in self._keeps_lists:
            self._ask_for_lists(mount)
        inside: list[tuple[int, bytes]] = []
        taken: list[bytes] = []
        entry = self._entries
        status, words, listxattr = self._statx.name, self._words, os.listxattr
        address, filled = self._statx.address + self._filled * statx.SIZE, self._filled
        add_attributes, add_script, add_forced = (
            self._attribute_numbers.append,
            self._script_numbers.append,
            self._forced.append,
        )
        for name in names:
            number = status(name, address)
            if number:
                self._trouble((*directory.names, name), OSError(number, ""))
                continue
            mode = words[filled * 128 + 14]
            kind = mode & 0o170000
            attribute_number = script = forced = 0
            if not bulk:
                forced = self._look(fd, name, directory)
            elif kind != _LINK:
                try:
                    listed = listxattr(name, follow_symlinks=False)
                except OSError:
                    listed = []  # none are kept here
                if listed:
                    attribute_number = self._attributes_of(name, listed)
                if kind == _FILE and mode & 0o111:
                    script = self._script_of(name)
            if kind == _DIRECTORY:
                there = self._mount_ids[filled * 32 + 18]
                if there == mount:
                    inside.append((entry, name))
                else:
                    forced = forced or self._look(fd, name, directory)
                    if self._across:
                        inside.append((entry, name))
                    else:
                        self._skipped.append(self._path_of((*directory.names, name)))
            if forced < 0:
                continue  # it has gone meanwhile
            add_attributes(attribute_number)
            add_script(script)
            add_forced(forced)
            taken.append(name)
            entry += 1
            filled += 1
            address += statx.SIZE
            if filled == _CHUNK:
                self._filled = filled
                self._sort_chunk()
                filled, address = 0, self._statx.address
                add_attributes, add_script, add_forced = (
                    self._attribute_numbers.append,
                    self._script_numbers.append,
                    self._forced.append,
                )
        self._filled = filled
        self._names += taken
        self._directories.append(directory.entry)
        self._counts.append(len(taken))
        self._entries = entry
        return inside

    # --- one entry ---

    def _attributes_of(self, name: bytes, listed: list[str]) -> int:
        """The number of what the attributes named in ``listed`` say."""
        raw = attributes.read(listed, lambda attribute: os.getxattr(name, attribute, follow_symlinks=False))
        found = self._known_attributes.get(raw)
        if found is None:
            found = self._known_attributes[raw] = len(self._attributes)
            self._attributes.append(attributes.decoded(raw))
        return found

    def _script_of(self, name: bytes) -> int:
        """The number of the interpreter that an executable file names; 0 for none."""
        try:
            found = interpreter_at(os.open(name, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW))
        except OSError as error:
            found = f"\0{error.errno}"
        if found is None:
            return 0
        number = self._known_scripts.get(found)
        if number is None:
            number = self._known_scripts[found] = len(self._scripts)
            self._scripts.append(found)
        return number

    def _look(self, fd: int, name: bytes, directory: Directory) -> int:
        """One more than the number of the sort of what is called ``name``, asked thoroughly; -1 where it has gone."""
        try:
            handle = os.open(name, os.O_PATH | os.O_NOFOLLOW, dir_fd=fd)
            node = LiveNode(self._mounts, handle, self._path_of((*directory.names, name)))
            try:
                return 1 + self._number(sort_of(node.look()))
            finally:
                node.close()
        except OSError as error:
            self._trouble((*directory.names, name), error)
            return -1

    def _trouble(self, names: tuple[bytes, ...], error: OSError) -> None:
        self._troubles.append(Trouble(self._path_of(names) or "/", error.errno or errno.EIO))

    def _path_of(self, names: tuple[bytes, ...]) -> str:
        return "/".join([self._path, *map(os.fsdecode, names)])

    # --- many entries ---

    def _sort_chunk(self) -> None:
        """Find the sorts of the entries in the buffer, and empty it."""
        count = self._filled
        self._filled = 0
        answers = self._answers[:count]
        rows = np.empty((count, 4), np.uint64)
        flags = answers["attributes"] & answers["supported"] & _FLAGS
        rows[:, 0] = answers["mode"] | flags << 16 | np.array(self._script_numbers, np.uint64) << 32
        rows[:, 1] = answers["uid"].astype(np.uint64) | answers["gid"].astype(np.uint64) << 32
        rows[:, 2] = answers["device_major"].astype(np.uint64) << 32 | answers["device_minor"]
        rows[:, 3] = answers["mount"] << 32 | np.array(self._attribute_numbers, np.uint64)
        forced = np.array(self._forced, np.int32)
        if forced.any():
            rows[forced > 0] = 0
            rows[forced > 0, 0] = forced[forced > 0]
        first, places = _distinct_rows(rows)
        numbers = np.empty(len(first), np.int32)
        for place, row in enumerate(rows[first]):
            key = row.tobytes()
            if forced[first[place]]:
                numbers[place] = forced[first[place]] - 1
                continue
            number = self._known_rows.get(key)
            if number is None:
                number = self._known_rows[key] = self._number(self._sort(answers[first[place]], row))
            numbers[place] = number
        birth = answers["birth"] * 1_000_000_000 + answers["birth_fraction"]
        self._chunks.append((numbers[places], answers["inode"].copy(), answers["links"].copy(), birth))
        self._attribute_numbers = array("I")
        self._script_numbers = array("I")
        self._forced = array("i")

    def _number(self, sort: Sort) -> int:
        number = self._known_sorts.get(sort)
        if number is None:
            number = self._known_sorts[sort] = len(self._sorts)
            self._sorts.append(sort)
        return number

    def _sort(self, answer: np.void, row: NDArray[np.uint64]) -> Sort:
        mode = int(answer["mode"])
        kind = KINDS[stat.S_IFMT(mode)]
        found = self._attributes[int(row[3]) & 0xFFFFFFFF]
        flags = int(answer["attributes"]) & int(answer["supported"])
        script = self._scripts[int(row[0]) >> 32]
        unknown = found.unknown
        if script is not None and script.startswith("\0"):
            unknown = (*unknown, ("first line", int(script[1:])))
            script = None
        posture = Posture(
            kind=kind,
            mode=stat.S_IMODE(mode),
            uid=int(answer["uid"]),
            gid=int(answer["gid"]),
            acl=found.acl,
            default=found.default,
            flags=flag_names(kind, flags),
            capabilities=found.capabilities,
        )
        device = os.makedev(int(answer["device_major"]), int(answer["device_minor"]))
        mount = int(answer["mount"])
        keeps_lists = None if stat.S_ISLNK(mode) else self._keeps_lists.get(mount)
        return Sort(posture, device, self._mounts.mount_with_id(mount), script, found.label, keeps_lists, unknown)

    def _ask_for_lists(self, mount: int) -> None:
        """Find out whether lists are kept on the mount that the current directory is on."""
        try:
            os.getxattr(b".", ACCESS_XATTR)
            self._keeps_lists[mount] = True
        except OSError as error:
            self._keeps_lists[mount] = {errno.ENODATA: True, errno.EOPNOTSUPP: False}.get(error.errno or 0)

    def _batch(self) -> Batch:
        empty = (np.zeros(0, np.int32), np.zeros(0, np.uint64), np.zeros(0, np.uint32), np.zeros(0, np.int64))
        sort, inode, links, birth = zip(empty, *self._chunks, strict=True)
        return Batch(
            sort=np.concatenate(sort),
            inode=np.concatenate(inode),
            links=np.concatenate(links),
            birth=np.concatenate(birth),
            name_lengths=np.fromiter(map(len, self._names), np.uint16, len(self._names)),
            names=b"".join(self._names),
            directories=np.array(self._directories, np.int32),
            counts=np.array(self._counts, np.int32),
        )


def _distinct_rows(rows: NDArray[np.uint64]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """The first place of each distinct row, and for each row its place among the distinct ones.

    Rows are compared by a 64-bit mixture of their columns; should two rows
    ever have the same mixture, they are compared whole.
    """
    mixed = rows * _MIX
    mixed ^= mixed >> np.uint64(29)
    _, first, places = np.unique((mixed * _MIX).sum(axis=1), return_index=True, return_inverse=True)
    if not (rows == rows[first][places]).all():
        _, first, places = np.unique(rows, axis=0, return_index=True, return_inverse=True)
    return first, places.reshape(-1)
