"""Mounts that map numbers: open_tree(2), mount_setattr(2) with MOUNT_ATTR_IDMAP, move_mount(2)."""

import ctypes
import os
import signal
import struct
import subprocess
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from support.kernel import NEW_USERS, unshare
from support.worlds import World

Ranges = Sequence[tuple[int, int, int]]
"""First number on disk, first number shown, how many."""

_LIBC = ctypes.CDLL(None, use_errno=True)
_OPEN_TREE, _MOVE_MOUNT, _MOUNT_SETATTR = 428, 429, 442
_CLONE, _EMPTY_PATH, _RECURSIVE, _IDMAP, _FROM_EMPTY = 1, 0x1000, 0x8000, 0x00100000, 4


def _call(number: int, *arguments: object) -> int:
    found = _LIBC.syscall(number, *arguments)
    if found < 0:
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
    return int(found)


def user_namespace(users: Ranges, groups: Ranges) -> int:
    """A handle on a user namespace with these maps; its process is gone."""
    ready, told = os.pipe()
    child = os.fork()
    if not child:
        try:
            unshare(NEW_USERS)
            os.write(told, b"x")
            signal.pause()
        finally:
            os._exit(1)
    try:
        os.read(ready, 1)
        for name, ranges in (("uid_map", users), ("gid_map", groups)):
            with open(f"/proc/{child}/{name}", "w") as file:
                file.write("\n".join(" ".join(map(str, one)) for one in ranges))
        return os.open(f"/proc/{child}/ns/user", os.O_RDONLY)
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        os.close(ready)
        os.close(told)


def mount_mapped(path: str, point: str, users: Ranges, groups: Ranges) -> None:
    """Mount ``path`` at ``point`` as well, where numbers on disk are shown as others."""
    namespace = user_namespace(users, groups)
    tree = _call(_OPEN_TREE, -100, os.fsencode(path), _CLONE | os.O_CLOEXEC)
    try:
        attributes = struct.pack("4Q", _IDMAP, 0, 0, namespace)
        _call(_MOUNT_SETATTR, tree, b"", _EMPTY_PATH, attributes, ctypes.c_size_t(len(attributes)))
        _call(_MOVE_MOUNT, tree, b"", -100, os.fsencode(point), _FROM_EMPTY)
    finally:
        os.close(tree)
        os.close(namespace)


@contextmanager
def second_folder() -> Iterator[str]:
    """An empty folder that everybody reaches, for something to be mounted there; unmounted and removed after."""
    folder = tempfile.mkdtemp(prefix="fiat-test-")
    os.chmod(folder, 0o755)
    at = os.path.join(folder, "at")
    os.mkdir(at)
    try:
        yield at
    finally:
        subprocess.run(["umount", "-l", at], check=True)
        os.rmdir(at)
        os.rmdir(folder)


@contextmanager
def seen_mapped(world: World, users: Ranges, groups: Ranges) -> Iterator[None]:
    """Look at the world through a mount of its tree that shows other numbers."""
    with second_folder() as at:
        mount_mapped(world.top, at, users, groups)
        world.seen_at = at
        try:
            yield
        finally:
            world.seen_at = world.top
