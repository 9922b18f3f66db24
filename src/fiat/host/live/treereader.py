"""Reads directories in bulk: one status call and one call for the names of the attributes, for each entry.

The answers of statx(2) stay in one buffer until there are a few thousand;
then NumPy finds which entries are alike. Nothing is made into objects here:
what entries have in common is put into *rows* of four numbers.
"""

import os
import resource
import stat
from array import array
from collections.abc import Iterator, Sequence
from types import ModuleType

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.posture import Mount
from fiat.core.tree.assembly import Batch
from fiat.core.tree.profile import profile_of
from fiat.core.tree.walk import Extent, Trouble
from fiat.host.live import attributes, statx
from fiat.host.live.attributes import KNOWN_FILE_SYSTEMS
from fiat.host.live.compiledreader import Alike, CompiledReader
from fiat.host.live.entryrows import EntryRows
from fiat.host.live.node import LiveNode
from fiat.host.live.postures import Reader
from fiat.host.live.rows import Directory, ReadPart, SplitDirectory, Where

_CHUNK = 2048
_SHARED = 40_000
"""With so many names in it, a directory is not read in one go."""

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
_NONE: list[str] = []
_UNKNOWN = Mount("", "")
_MODE_AT, _SIZE_AT, _DEVICE_AT, _MOUNT_AT = 28 // 2, 40 // 8, 136 // 8, 144 // 8  # in numbers of their size

_Inside = tuple[int, bytes, "Where | None"]
"""A directory found in another: its entry, its name, and where it is, if that is where the other is."""


class _MountedMeanwhile(Exception):
    """Something was mounted over a directory after it had been seen: what is in it now is not in the tree."""


class TreeReader:
    """Reads the directories of one tree, each time as many as asked for.

    ``top`` is a handle of the top directory. Changes the current directory of
    the process while it reads.
    """

    def __init__(self, reader: Reader, top: int, path: str, extent: Extent) -> None:
        self._reader = reader
        self._top = top
        self._path = path.rstrip("/")
        self._extent = extent
        self._statx = statx.Statx(_CHUNK)
        self._handles = statx.Statx()
        raw = memoryview(self._statx.buffer).cast("B")
        self._halves, self._words = raw.cast("H"), raw.cast("Q")
        self._answers: NDArray[np.void] = np.frombuffer(raw, _ANSWER)
        self._rows = EntryRows(reader.kernel.handlers)
        self._mounts: dict[int, Mount] = {}
        self._keeps_lists: dict[int, bool | None] = {}  # by mount
        self._filesystems: dict[Where, str] = {}
        self._deepest = max(resource.getrlimit(resource.RLIMIT_NOFILE)[0] // 2 - 10, 1)
        self._start()

    def fresh(self) -> "TreeReader":
        """A reader of the same tree that knows nothing yet, for another process."""
        return TreeReader(self._reader, self._top, self._path, self._extent)

    def _start(self) -> None:
        """Begin a part."""
        self._rows.begin()
        self._filled = 0
        self._special = array("Q")  # four numbers for each
        self._targets: list[tuple[int, bytes]] = []
        self._names: list[bytes] = []
        self._directories = array("i")
        self._counts = array("i")
        self._troubles: list[Trouble] = []
        self._skipped: list[str] = []
        self._shared: list[SplitDirectory] = []
        self._entries = 0

    def vet(self, fd: int) -> None:
        """Learn whether what is where the directory opened as ``fd`` is, is read in bulk."""
        self._may_be_read_in_bulk(fd, Directory(-1, (), self._where(fd)))

    def alike(self) -> Alike:
        """Where everything is read in bulk, as far as that is known."""
        mounts = {number: mount for number, mount in self._mounts.items() if _is_alike(mount)}
        filesystems = {where: name for where, name in self._filesystems.items() if where[0] in mounts}
        covered = {path for mount in mounts.values() for path in mount.covered}
        top = self._path + "/"
        above = (os.path.dirname(path).rstrip("/") + "/" for path in covered)
        return Alike(
            filesystems, self._keeps_lists, [os.fsencode(path[len(top) : -1]) for path in above if path.startswith(top)]
        )

    def compiled(self, native: ModuleType) -> CompiledReader:
        """The compiled reader of the same tree."""
        return CompiledReader(native, self._reader.kernel, self._top, self._path, self._extent, self._deepest)

    def read(
        self,
        roots: Sequence[tuple[bytes, ...]],
        most: int,
        inside: bytes | None = None,
        wheres: Sequence[Where | None] | None = None,
    ) -> ReadPart:
        """Read the directories ``roots``, given as names from the top, and what is under them.

        Stops after the directory with which ``most`` entries are reached.
        Directories in the batch are numbered as :class:`Batch` says, a root as -1
        less its place in ``roots``. Of a directory that is :class:`SplitDirectory` some names
        may be given as ``inside``: then these are read, and nothing under them. ``wheres`` they were found, where that
        is known.
        """
        self._start()
        unread: list[Directory] = []
        home = _home()
        try:
            for number, names in enumerate(roots):
                if self._entries >= most:
                    unread.append(Directory(-1 - number, names))
                    continue
                try:
                    fd = self._open(names)
                except OSError as error:
                    self._trouble(names, error.errno or 0)
                    continue
                directory = Directory(-1 - number, names, wheres[number] if wheres is not None else None)
                if inside is None:
                    unread += self._read_below(fd, directory, most)
                else:
                    unread += self._read_those(fd, directory, inside.split(b"/"))
            self._number_chunk()
        finally:
            os.fchdir(home)
            os.close(home)
        at = self._path_of(unread[-1].names if unread else roots[-1]) or "/"
        met = self._rows.new_values(self._keeps_lists, self._filesystems)
        return ReadPart(self._batch(), met, unread, self._shared, self._troubles, self._skipped, at)

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
        waiting: list[tuple[int, tuple[bytes, ...], Iterator[_Inside]]] = []
        deeper: list[Directory] = []  # opened from the top again, lest too many are open at once

        def enter(fd: int, directory: Directory) -> None:
            try:
                inside = self._read_one(fd, directory)
            except _MountedMeanwhile:
                self._skipped.append(self._path_of(directory.names))
                inside = []
            except OSError as error:
                self._trouble(directory.names, error.errno or 0)
                inside = []
            if inside:
                waiting.append((fd, directory.names, iter(inside)))
            else:
                os.close(fd)

        enter(fd, root)
        while waiting and self._entries < most:
            above, names, inside = waiting[-1]
            entry, name, where = next(inside, (-1, b"", None))
            if entry < 0:
                waiting.pop()
                os.close(above)
                continue
            directory = Directory(entry, (*names, name), where)
            if len(waiting) == self._deepest:
                deeper.append(directory)
                continue
            try:
                fd = os.open(name, _OPEN_DIRECTORY, dir_fd=above)
            except OSError as error:
                self._trouble(directory.names, error.errno or 0)
                continue
            enter(fd, directory)
        for above, names, inside in waiting:
            os.close(above)
            for entry, name, where in inside:
                yield Directory(entry, (*names, name), where)
        yield from deeper

    def _read_those(self, fd: int, directory: Directory, names: list[bytes]) -> Iterator[Directory]:
        """Read some of the names in a directory; those that are directories are left unread."""
        try:
            os.fchdir(fd)
            found = self._read_names(fd, directory, names)
        except _MountedMeanwhile:
            self._skipped.append(self._path_of(directory.names))
            found = []
        except OSError as error:
            self._trouble(directory.names, error.errno or 0)
            found = []
        finally:
            os.close(fd)
        for entry, name, where in found:
            yield Directory(entry, (*directory.names, name), where)

    def _read_one(self, fd: int, directory: Directory) -> list[_Inside]:
        """Read one directory, unless it is very large; the entries in it that are directories to be read."""
        os.fchdir(fd)
        names = os.listdir(b".")
        names.sort()
        if len(names) < _SHARED:
            return self._read_names(fd, directory, names)
        self._shared.append(SplitDirectory(directory, len(names), b"/".join(names)))
        return []

    def _read_names(self, fd: int, directory: Directory, names: list[bytes]) -> list[_Inside]:
        """Read the names in a directory; the entries that are directories to be read."""
        if directory.where is None or (self._extent.across_mounts and self._where(fd) != directory.where):
            directory = directory._replace(where=self._where(fd))
        bulk = self._may_be_read_in_bulk(fd, directory)
        inside: list[_Inside] = []
        if len(names) <= _CHUNK - self._filled:
            count = self._read_some(fd, directory, names, bulk, inside)
        else:
            count = begin = 0
            while begin < len(names):
                room = _CHUNK - self._filled
                count += self._read_some(fd, directory, names[begin : begin + room], bulk, inside)
                begin += room
                self._number_chunk()
        self._directories.append(directory.entry)
        self._counts.append(count)
        return inside

    def _may_be_read_in_bulk(self, fd: int, directory: Directory) -> bool:
        """Whether what statx(2) and the names of attributes say of an entry is all that there is to be known."""
        assert directory.where is not None
        mount, _ = directory.where
        known = self._mounts.get(mount)
        if directory.where not in self._filesystems:
            self._name_file_system(fd, directory.where)
        if known is None:
            known = self._mounts[mount] = self._reader.kernel.mount_with_id(mount) or _UNKNOWN
            if known.type in KNOWN_FILE_SYSTEMS:
                self._keeps_lists[mount] = attributes.lists_are_kept(f"/proc/self/fd/{fd}")
        return known.type in KNOWN_FILE_SYSTEMS and not (known.covered and self._covers_here(known, directory))

    def _name_file_system(self, fd: int, where: Where) -> None:
        mount, device = where
        number = os.makedev(device & 0xFFFFFFFF, device >> 32)
        self._filesystems[where] = self._reader.kernel.filesystem_of(fd, number, mount)

    def _read_some(self, fd: int, directory: Directory, names: list[bytes], bulk: bool, inside: list[_Inside]) -> int:
        """Read those names in a directory; how many of them are there. What is to be read goes to ``inside``."""
        names, looked_at = self._there(fd, directory, names, bulk)
        if bulk and directory.where is not None and self._mounts[directory.where[0]].type == "overlay":
            self._look_at_layers(fd, directory, names, looked_at)
        filled, count, entry = self._filled, len(names), self._entries
        details, descend = self._extent.details, not self._extent.one_level
        listxattr, special = os.listxattr, self._special
        modes = self._halves[_MODE_AT + filled * 128 : (filled + count) * 128 : 128].tolist()
        for place, (name, mode) in enumerate(zip(names, modes, strict=True), filled):  # millions of them
            kind = mode & 0o170000
            if looked_at and name in looked_at:
                special.extend((place, 0, 0, looked_at[name]))
            elif kind != _LINK:
                try:
                    listed = listxattr(name, follow_symlinks=False)
                except OSError:
                    listed = _NONE  # none are kept here
                if listed or (mode & 0o111 and kind == _FILE):
                    said = self._rows.attributes_of(name, listed) if listed else 0
                    program = (
                        self._rows.program_of(name, self._words[place * 32 + _SIZE_AT])
                        if mode & 0o111 and kind == _FILE
                        else 0
                    )
                    if said or program:
                        special.extend((place, said, program, 0))
            if kind == _DIRECTORY and descend:
                self._found(inside, entry + place - filled, name, place, directory, known=name not in looked_at)
            elif kind == _LINK and details:
                self._targets.append((entry + place - filled, _target(name)))
        self._names += names
        self._filled += count
        self._entries += count
        return count

    def _look_at_layers(self, fd: int, directory: Directory, names: list[bytes], looked_at: dict[bytes, int]) -> None:
        """Look thoroughly at what layers refuse, and at directories where it counts of which layer they are.

        The files of an overlay may be on several devices, which get their names here.
        """
        assert directory.where is not None
        number = directory.where[0]
        mount, asks = self._mounts[number], self._reader.kernel.overrides_permissions
        filled = self._filled
        modes = self._halves[_MODE_AT + filled * 128 : (filled + len(names)) * 128 : 128].tolist()
        devices = self._words[_DEVICE_AT + filled * 32 : (filled + len(names)) * 32 : 32].tolist()
        for name, mode, device in zip(names, modes, devices, strict=True):
            kind = mode & 0o170000
            if name in looked_at:
                continue
            if (number, device) not in self._filesystems:
                self._name_file_system(fd, (number, device))
            if kind == _LINK:
                continue
            special = kind not in (_DIRECTORY, _FILE)
            wants = os.R_OK | (os.W_OK if special or not mount.read_only else 0)
            wants |= os.X_OK if kind == _DIRECTORY or (mode & 0o111 and not special) else 0
            layered = kind == _DIRECTORY and not mount.moves_directories
            if layered or (asks and not os.access(name, wants, effective_ids=True, follow_symlinks=False)):
                found = self._look(fd, name, directory)
                if found >= 0:
                    looked_at[name] = found

    def _there(
        self, fd: int, directory: Directory, names: list[bytes], bulk: bool
    ) -> tuple[list[bytes], dict[bytes, int]]:
        """The names that are there, their status in the buffer; and what was found by looking at some thoroughly."""
        looked_at: dict[bytes, int] = {}
        while True:
            gone = set()
            if not self._statx.ask(names, self._filled):
                for name in names:
                    number = self._handles.error(name)
                    if number:
                        self._trouble((*directory.names, name), number)
                        gone.add(name)
            else:
                elsewhere = self._to_be_looked_at(names, directory.where)
                if elsewhere and self._where(fd) != directory.where:
                    raise _MountedMeanwhile
                for name in elsewhere if bulk else names:
                    if name not in looked_at:
                        looked_at[name] = self._look(fd, name, directory)
                        if looked_at[name] < 0:
                            gone.add(name)
                if not gone:
                    return names, looked_at
            names = [name for name in names if name not in gone]

    def _to_be_looked_at(self, names: list[bytes], where: Where | None) -> Sequence[bytes]:
        """What is on another mount than the directory that holds it, or is a directory on another device."""
        filled, count = self._filled, len(names)
        mounts = self._words[_MOUNT_AT + filled * 32 : (filled + count) * 32 : 32].tolist()
        devices = self._words[_DEVICE_AT + filled * 32 : (filled + count) * 32 : 32].tolist()
        if where is None or (mounts.count(where[0]) == count and devices.count(where[1]) == count):
            return ()
        modes = self._halves[_MODE_AT + filled * 128 : (filled + count) * 128 : 128].tolist()
        return [
            name
            for name, mount, device, mode in zip(names, mounts, devices, modes, strict=True)
            if mount != where[0] or (device != where[1] and mode & 0o170000 == _DIRECTORY)
        ]

    def _found(
        self, inside: list[_Inside], entry: int, name: bytes, place: int, directory: Directory, *, known: bool
    ) -> None:
        """A directory in another, its status at ``place`` of the buffer; ``known`` to be where the other is."""
        where = directory.where
        if known:
            inside.append((entry, name, where))
        elif self._extent.across_mounts or (where and self._words[place * 32 + _MOUNT_AT] == where[0]):
            inside.append((entry, name, None))
        else:
            self._skipped.append(self._path_of((*directory.names, name)))

    def _covers_here(self, mount: Mount, directory: Directory) -> bool:
        """Whether one of the names in this directory is in use, for something is mounted there by another path."""
        path = self._path_of(directory.names) or "/"
        return any(os.path.dirname(one) == path for one in mount.covered)

    # --- one entry ---

    def _where(self, fd: int) -> Where:
        """Where the directory opened as ``fd`` is."""
        facts = self._handles.facts(fd)
        return facts.mount, os.major(facts.device) | os.minor(facts.device) << 32

    def _program_of(self, name: bytes, place: int) -> int:
        """The number of what execve(2) sees of an executable file, its status at ``place`` of the buffer."""
        return self._rows.program_of(name, self._words[place * 32 + _SIZE_AT])

    def _look(self, fd: int, name: bytes, directory: Directory) -> int:
        """One more than the number of the profile of ``name``, found by looking thoroughly; -1 where it has gone."""
        try:
            handle = os.open(name, os.O_PATH | os.O_NOFOLLOW, dir_fd=fd)
            node = LiveNode(self._reader, handle, self._path_of((*directory.names, name)))
            try:
                profile = profile_of(node.look())
                return 1 + self._rows.number_of_profile(profile)
            finally:
                node.close()
        except OSError as error:
            self._trouble((*directory.names, name), error.errno or 0)
            return -1

    def _trouble(self, names: tuple[bytes, ...], errno: int) -> None:
        self._troubles.append(Trouble(self._path_of(names) or "/", errno))

    def _path_of(self, names: tuple[bytes, ...]) -> str:
        return "/".join([self._path, *map(os.fsdecode, names)])

    # --- a part ---

    def _number_chunk(self) -> None:
        """Find the rows of the entries in the buffer, and empty it."""
        answers, special = self._answers[: self._filled], self._special
        self._filled, self._special = 0, array("Q")
        overlays = [number for number, mount in self._mounts.items() if mount.type == "overlay"]
        if overlays:  # what is copied up is made anew
            born_again = np.isin(answers["mount"], overlays)
            for name in ("birth", "birth_fraction"):
                answers[name][born_again] = 0
        self._rows.add(answers, special, details=self._extent.details)

    def _batch(self) -> Batch:
        columns = self._rows.columns()
        details = self._extent.details
        return Batch(
            profile=columns.profile,
            inode=columns.inode,
            links=columns.links,
            birth=columns.birth,
            name_lengths=np.fromiter(map(len, self._names), np.uint16, len(self._names)),
            names=b"".join(self._names),
            directories=np.array(self._directories, np.int32),
            counts=np.array(self._counts, np.int32),
            size=columns.size if details else None,
            changed=columns.changed if details else None,
            modified=columns.modified if details else None,
            targets=tuple(self._targets),
        )


def _is_alike(mount: Mount) -> bool:
    return mount.type in KNOWN_FILE_SYSTEMS and mount.type != "overlay"


def _home() -> int:
    """A handle on the current directory, or on the root directory where the current one may not be entered again."""
    try:
        return os.open(".", os.O_PATH)
    except OSError:
        return os.open("/", os.O_PATH)


def _target(name: bytes) -> bytes:
    """Where the link called ``name`` leads; nowhere, where it has gone meanwhile."""
    try:
        return os.readlink(name)
    except OSError:
        return b""
