"""What all objects of the running kernel share: mounts, file systems, and the calls that Python has not got."""

import errno
import os
from collections.abc import Callable, Iterable
from contextlib import suppress
from functools import cached_property
from typing import TYPE_CHECKING, Protocol

from fiat.core.model import capabilities
from fiat.core.model.idmap import OUTSIDE, UNMAPPED, IdMap
from fiat.core.model.posture import Mount
from fiat.host.live.attributes import KNOWN_FILE_SYSTEMS, lists_are_kept
from fiat.host.live.facts import Facts, mount_id
from fiat.host.live.mounts import mount_at
from fiat.host.live.namespace import effective_capabilities, overflow_numbers, own_numbers

if TYPE_CHECKING:
    from fiat.core.rules.handlers import Handler
    from fiat.host.live.layers import Layers


# FS_IOC_GETFSUUID of linux/fs.h: _IOR(0x15, 0, a length of one byte and 16 bytes)
_GET_UUID = 2 << 30 | 17 << 16 | 0x15 << 8 | 0


class StatusCalls(Protocol):
    """The calls of statx(2) on an object that a descriptor holds."""

    def fields(self, fd: int) -> tuple[int, ...]:
        """What it says of the object held by ``fd``, as in :mod:`fiat.host.live.statx`; raises OSError."""

    def facts(self, fd: int) -> Facts:
        """What is known of the object held by ``fd``; raises OSError."""


class Kernel:
    """Answers that hold for many objects, each asked for once.

    ``open_root`` opens the root directory from which everything is reached,
    ``mounts`` reads the mounts that are seen from there. ``handlers`` are those of
    another one, for a view of the same host, and ``namespace`` the identifier of its mount namespace. ``foreign``
    says that the mounts are another process's: the paths of their layers lead elsewhere then.
    """

    def __init__(
        self,
        open_root: Callable[[], int],
        mounts: Callable[[], dict[int, Mount]],
        handlers: "tuple[Handler, ...] | None" = None,
        namespace: int = 0,
        *,
        foreign: bool = False,
    ) -> None:
        self._open_root = open_root
        self._handlers = handlers
        self._mounts_now = mounts
        self._namespace = namespace
        self._foreign = foreign
        self._unmapped: dict[int, tuple[int, int, int]] = {}
        self._layers: dict[int, Layers] = {}
        self._statx: StatusCalls | None = None
        self._mounts: dict[int, Mount] | None = None
        self.times_read = 0
        """How often the mounts were read."""
        self._lists_attributes: dict[int, bool] = {}
        self._keeps_lists: dict[int, bool | None] = {}
        self._filesystems: dict[tuple[int, int], str] = {}

    @property
    def statx(self) -> StatusCalls:
        """What makes the status calls that Python has not got."""
        if self._statx is None:
            from fiat.host.live.statx import Statx  # slow to load

            self._statx = Statx()
        return self._statx

    @property
    def handlers(self) -> "tuple[Handler, ...]":
        """The handlers for further kinds of programs, where they can be looked at."""
        if self._handlers is None:
            mounts = self._read_mounts() if self._mounts is None else self._mounts
            points = [mount.point for mount in mounts.values() if mount.type == "binfmt_misc"]
            self._handlers = handlers_at(points[0]) if points else ()
        return self._handlers

    def _read_mounts(self) -> dict[int, Mount]:
        self.times_read += 1
        self._mounts = self._mounts_now()
        self._unmapped.clear()
        self._layers.clear()
        for number, mount in self._mounts.items():
            if mount.type == "overlay":
                self._mounts[number] = mount._replace(filesystem_options=_with_defaults(mount.filesystem_options))
        if any("idmapped" in mount.options for mount in self._mounts.values()):
            from fiat.host.live.idmaps import id_maps

            for number, numbers in id_maps(self._namespace).items():
                if number in self._mounts:
                    self._mounts[number] = self._mounts[number]._replace(id_map=numbers)
        return self._mounts

    @cached_property
    def overrides_permissions(self) -> bool:
        """Whether nothing but what lies behind an object refuses this process: it has CAP_DAC_OVERRIDE everywhere."""
        return self._own_numbers is None and bool(effective_capabilities() & capabilities.DAC_OVERRIDE)

    def layer_of(self, number: int, path: str, fd: int) -> str | None:
        """Of which layers the directory at ``path`` comes, held by ``fd``, on the mount with this id.

        None where it is on no overlay that cannot move all of them, or that is not to be told.
        """
        mount = self.mount_with_id(number)
        if mount is None or mount.moves_directories or self._foreign:
            return None
        return self._layers_of(number, mount).of(path[len(mount.point.rstrip("/")) :], os.fstat(fd))

    def comes_from_below(self, number: int, path: str) -> bool | None:
        """Whether what is at ``path``, no directory, comes from a lower layer of the mount with this id.

        None where that is not to be told.
        """
        mount = self.mount_with_id(number)
        if mount is None or mount.type != "overlay":
            return False
        if self._foreign:
            return None
        above = self._layers_of(number, mount).has_above(path[len(mount.point.rstrip("/")) :])
        return None if above is None else not above

    def _layers_of(self, number: int, mount: Mount) -> "Layers":
        if number not in self._layers:
            from fiat.host.live.layers import Layers

            self._layers[number] = Layers(mount, number)
        return self._layers[number]

    def unmapped_as(self, mount: int) -> tuple[int, int, int]:
        """The user and the group that stat(2) shows there for what has none; and what these are then.

        -1 where every number is what it seems, or nobody can tell it from one.
        """
        found = self._unmapped.get(mount)
        if found is None:
            found = self._unmapped[mount] = self._shown_for_none(self.mount_with_id(mount))
        return found

    def _shown_for_none(self, mount: Mount | None) -> tuple[int, int, int]:
        own = self._own_numbers
        if own is None and (mount is None or mount.id_map is None):
            return -1, -1, 0
        user, group = overflow_numbers()
        if mount is not None and mount.id_map is not None:
            known, what = mount.id_map, UNMAPPED
            real = known.users.inward(user) is not None, known.groups.inward(group) is not None
        else:
            assert own is not None
            real, what = (own.users.outward(user) is not None, own.groups.outward(group) is not None), OUTSIDE
        return -1 if real[0] else user, -1 if real[1] else group, what

    @cached_property
    def _own_numbers(self) -> IdMap | None:
        return own_numbers()

    def mount_with_id(self, number: int) -> Mount | None:
        """The mount with this id; the table is read again when it is new."""
        mounts = self._mounts
        if mounts is None or number not in mounts:
            mounts = self._read_mounts()
            if number not in mounts:
                self._add_unlisted(mounts, number)
        return mounts.get(number)

    def mounts_known(self) -> Iterable[Mount]:
        """All mounts that are seen."""
        return (self._read_mounts() if self._mounts is None else self._mounts).values()

    def _add_unlisted(self, mounts: dict[int, Mount], number: int) -> None:
        """A root directory may be on a mount that is not listed, for nothing above it is seen."""
        root = self._open_root()
        try:
            if mount_id(root) == number:
                mounts[number] = mount_at(root)
        finally:
            os.close(root)

    def lists_attributes(self, mount: int) -> bool:
        """Whether listxattr(2) names every attribute, and statx(2) every flag, on the mount with this id."""
        known = self._lists_attributes.get(mount)
        if known is None:
            found = self.mount_with_id(mount)
            known = self._lists_attributes[mount] = found is not None and found.type in KNOWN_FILE_SYSTEMS
        return known

    def keeps_lists(self, mount: int, path: str) -> bool | None:
        """Whether access lists are kept on the mount with this id, on which ``path`` is."""
        if mount not in self._keeps_lists:
            self._keeps_lists[mount] = lists_are_kept(path)
        return self._keeps_lists[mount]

    def filesystem_of(self, fd: int, device: int, mount: int) -> str:
        """What the file system that ``fd`` is on is called in identities.

        That is its identifier (statfs(2), ``f_fsid``); where the file system
        makes that of the device's number, as xfs does, its UUID. Where neither
        can be had it has no name: inode and birth have to do then. On an overlay
        files of several file systems may have one number, and then a device each
        (overlayfs, "Inode properties"), which is named as long as the overlay is mounted.
        """
        found = self._filesystems.get((device, mount))
        if found is None:
            found = self._named(fd, mount)
            known = self.mount_with_id(mount)
            if known is not None and known.type == "overlay" and device != self._device_at(known.point):
                found += f".{os.minor(device)}"
            self._filesystems[device, mount] = found
        return found

    def _device_at(self, point: str) -> int:
        root = self._open_root()
        try:
            return os.stat(point.lstrip("/") or ".", dir_fd=root, follow_symlinks=False).st_dev
        except OSError:
            return 0
        finally:
            os.close(root)

    def _named(self, fd: int, mount: int) -> str:
        known = self.mount_with_id(mount)
        if known is not None and known.type == "xfs":
            return _uuid(self._open_root(), known.point)
        try:
            identifier = os.fstatvfs(fd).f_fsid
        except OSError as error:
            if error.errno == errno.EBADF:
                raise
            identifier = 0
        return f"{identifier:016x}" if identifier else ""


def _with_defaults(options: tuple[str, ...]) -> tuple[str, ...]:
    """The options of an overlay with those that it does not show, for they are what the module has by itself."""
    found = options
    for name in ("redirect_dir", "index"):
        if not any(option.startswith(f"{name}=") for option in options):
            with suppress(OSError), open(f"/sys/module/overlay/parameters/{name}", encoding="utf-8") as file:
                found = (*found, f"{name}=on") if file.read().strip() == "Y" else found
    return found


def handlers_at(point: str) -> "tuple[Handler, ...]":
    """The handlers that are switched on, in the binfmt_misc that is mounted at ``point``."""
    try:
        with open(f"{point}/status", encoding="utf-8") as file:
            if file.read().strip() != "enabled":
                return ()
        names = [name for name in os.listdir(point) if name not in ("status", "register")]
    except OSError:
        return ()
    from fiat.core.rules import handlers

    found = []
    for name in sorted(names):
        try:
            with open(f"{point}/{name}", encoding="utf-8", errors="surrogateescape") as file:
                found.append(handlers.parse(name, file.read()))
        except OSError:
            continue  # it has gone
    return tuple(handler for handler in found if handler is not None)


def _uuid(root: int, point: str) -> str:
    """The UUID of the file system that is mounted at ``point`` under ``root``, which it closes; empty where unknown."""
    import fcntl

    opened = root
    try:
        for name in (*filter(None, point.split("/")), "."):
            flags = os.O_RDONLY if name == "." else os.O_PATH
            below = os.open(name, flags | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=opened)
            os.close(opened)
            opened = below
        answer = fcntl.ioctl(opened, _GET_UUID, bytes(17))
        return answer[1 : 1 + answer[0]].hex()
    except OSError:
        return ""
    finally:
        os.close(opened)
