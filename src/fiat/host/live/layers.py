"""From which layers of an overlay something comes: the kernel's documentation of overlayfs ("Upper and Lower",
"whiteouts and opaque directories", "redirect_dir").

The layers are looked at where the mount says that they are. Whether a directory of the upper layer hides those under it
only an attribute tells that nobody but root may read; whoever is not, and whoever does not find the layers (they were
mounted over, or belong to another root directory), is told nothing.
"""

import errno
import os
import stat
import struct
from contextlib import ExitStack, suppress
from typing import NamedTuple

from fiat.core.model.mode import EXECUTE, EXECUTE_BITS, READ, WRITE
from fiat.core.model.posture import FLAGS, LOWER, MERGED, NEVER_READ_ONLY, UPPER, Kind, Mount, Posture
from fiat.host.live.facts import mount_id, set_again
from fiat.host.live.namespace import effective_capabilities

_SYS_ADMIN = 1 << 21
"""CAP_SYS_ADMIN, which the attributes of layers take (xattr(7), "Trusted extended attributes")."""


class _Level(NamedTuple):
    """A directory of the overlay: handles on what it is in the upper layer, and in those below, topmost first."""

    name: str
    upper: int | None
    lowers: tuple[int, ...]


class Layers:
    """The layers of one overlay. Keeps the directories on the way to the last path open."""

    def __init__(self, mount: Mount, number: int) -> None:
        """``number`` is that of the mount: what lies at the place of a layer may be the overlay itself."""
        self._number = number
        self._known = False
        self._chain: list[_Level] = []
        self._prefix = "user" if "userxattr" in mount.filesystem_options else "trusted"
        if mount.root == "/" and effective_capabilities() & _SYS_ADMIN:
            self._open(mount)

    def _open(self, mount: Mount) -> None:
        options = dict(option.partition("=")[::2] for option in mount.filesystem_options)
        added = (one.partition("+=") for one in mount.filesystem_options)
        lowers = [*_names(options.get("lowerdir", "")), *(path for name, _, path in added if name == "lowerdir")]
        upper = options.get("upperdir")
        paths = [*([upper] if upper else []), *lowers]
        if not lowers or not all(path.startswith("/") for path in paths):
            return
        with ExitStack() as held:
            opened = []
            try:
                for path in paths:
                    fd = os.open(path, os.O_PATH | os.O_DIRECTORY)
                    held.callback(os.close, fd)
                    if mount_id(fd) == self._number:
                        return
                    opened.append(fd)
            except OSError:
                return
            held.pop_all()
        self._chain.append(_Level("", opened[0] if upper else None, tuple(opened[1 if upper else 0 :])))
        self._known = True

    def of(self, path: str, seen: os.stat_result) -> str | None:
        """Of which layers the directory at ``path``, from the mount point on, comes; None where it cannot be told.

        ``seen`` is its status, which must be that of what is found in the topmost of them.
        """
        if not self._known:
            return None
        names = [name for name in path.split("/") if name]
        return self._of(seen) if self._go_to(names) else None

    def has_above(self, path: str) -> bool | None:
        """Whether the upper layer has what is at ``path``, which is no directory; None where it cannot be told."""
        *names, name = [name for name in path.split("/") if name] or [""]
        if not self._known or not self._go_to(names):
            return None
        upper = self._chain[-1].upper
        if upper is None:
            return False
        try:
            os.stat(name, dir_fd=upper, follow_symlinks=False)
        except OSError:
            return False
        return True

    def _go_to(self, names: list[str]) -> bool:
        """Have the directory with these names at the end of the chain; False where that cannot be."""
        common = 0
        while common < min(len(names), len(self._chain) - 1) and self._chain[common + 1].name == names[common]:
            common += 1
        while len(self._chain) > common + 1:
            _close(self._chain.pop())
        for name in names[common:]:
            level = self._below(self._chain[-1], name)
            if level is None:
                return False
            self._chain.append(level)
        return True

    def _of(self, seen: os.stat_result) -> str | None:
        _, upper, lowers = self._chain[-1]
        top = upper if upper is not None else lowers[0] if lowers else None
        if top is None or not _same(os.fstat(top), seen):
            return None
        return LOWER if upper is None else MERGED if lowers else UPPER

    def _below(self, level: _Level, name: str) -> _Level | None:
        upper, below = None, name
        merging = True
        if level.upper is not None:
            upper = _directory(level.upper, name)
            if upper is not None:
                merging = not self._says(upper, "opaque")
                below = self._redirect(upper) or name
        lowers: list[int] = []
        for fd in level.lowers if merging else ():
            if "/" in below:  # it came from elsewhere: that is not followed
                _close(_Level(name, upper, tuple(lowers)))
                return None
            try:
                found = os.open(below, os.O_PATH | os.O_NOFOLLOW, dir_fd=fd)
            except OSError:
                continue
            if not stat.S_ISDIR(os.fstat(found).st_mode):  # a whiteout, or what hides what is below it
                os.close(found)
                break
            lowers.append(found)
            if self._says(found, "opaque"):
                break
            below = self._redirect(found) or below
        if upper is None and not lowers:
            return None
        return _Level(name, upper, tuple(lowers))

    def _says(self, fd: int, what: str) -> bool:
        return self._attribute(fd, what) == b"y"

    def _redirect(self, fd: int) -> str:
        return os.fsdecode(self._attribute(fd, "redirect"))

    def _attribute(self, fd: int, what: str) -> bytes:
        with suppress(OSError):
            return os.getxattr(f"/proc/self/fd/{fd}", f"{self._prefix}.overlay.{what}")
        return b""

    def __del__(self) -> None:
        """Let go of the layers."""
        while self._chain:
            _close(self._chain.pop())


def _close(level: _Level) -> None:
    for fd in (level.upper, *level.lowers):
        if fd is not None:
            os.close(fd)


def _directory(fd: int, name: str) -> int | None:
    try:
        return os.open(name, os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=fd)
    except OSError:
        return None


def _same(one: os.stat_result, other: os.stat_result) -> bool:
    """Whether both may be one directory: an overlay shows what its topmost layer has."""
    return (one.st_mode, one.st_uid, one.st_gid, one.st_mtime_ns) == (
        other.st_mode,
        other.st_uid,
        other.st_gid,
        other.st_mtime_ns,
    )


def _names(text: str) -> list[str]:
    r"""The layers in a ``lowerdir`` option: a colon stands between two, two before those that hold data alone."""
    text = text.partition("::")[0]
    return [part.replace("\0", ":") for part in text.replace("\\:", "\0").split(":") if part]


# --- what the layers refuse ----------------------------------------------------------
#
# An overlay asks twice (``ovl_permission``): whether the one who acts may, by what the overlay shows, and whether who
# mounted it may, by what the layer has. Nothing tells who that was. But of whom the first refuses nothing, such as
# root, the answer to access(2) is the second.

_ASKED = (errno.EACCES, errno.EROFS)


def asked_of_layers(posture: Posture, mount: Mount | None) -> int:
    """The permissions that can be asked for: what something else refuses to everybody is not theirs to refuse."""
    if posture.unmapped or posture.kind is Kind.SYMLINK:
        return 0
    read_only = mount is None or (mount.read_only and posture.kind not in NEVER_READ_ONLY)
    writable = not read_only and not any(flag in FLAGS for flag in posture.flags or ())
    runs = posture.directory or (posture.kind is Kind.FILE and posture.mode & EXECUTE_BITS)
    return READ | (WRITE if writable else 0) | (EXECUTE if runs else 0)


def refused(through: str, wants: int) -> tuple[tuple[int, int], ...]:
    """Which of these permissions are refused, each with its errno."""
    if os.access(through, wants, effective_ids=True):
        return ()
    import ctypes  # slow to load

    library = ctypes.CDLL(None, use_errno=True)
    found = []
    for want in (READ, WRITE, EXECUTE):
        if wants & want and library.faccessat(-100, os.fsencode(through), want, 0x200):
            number = ctypes.get_errno()
            if number in _ASKED:
                found.append((want, number))
    return tuple(found)


# --- copying up ------------------------------------------------------------------------


def copy_up(through: str) -> None:
    """Have the object in the upper layer, by setting the time of its last access to what it is (utimensat(2)).

    Nothing else is touched, so that nothing of its posture is cleared. What may not be done is told by the change.
    """
    import ctypes

    accessed = os.stat(through).st_atime_ns
    times = struct.pack("4l", *divmod(accessed, _SECOND), 0, _UTIME_OMIT)
    if ctypes.CDLL(None).utimensat(-100, os.fsencode(through), times, 0):
        with suppress(OSError):  # what is immutable has no times set, and has its flags set to what they are
            set_again(through)


_SECOND = 1_000_000_000
_UTIME_OMIT = (1 << 30) - 2
"""In place of the nanoseconds of a time that stays."""
