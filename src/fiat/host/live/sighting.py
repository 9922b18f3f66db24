"""What a process sees at a path: enough to tell whether another one, on another machine perhaps, sees the same tree."""

import os
from typing import NamedTuple

from fiat.core.errors import EngineError
from fiat.core.model.idmap import IdMap
from fiat.core.model.posture import Mount
from fiat.core.text import joined, quoted
from fiat.host.live.kernel import Kernel

_PROBED = 64
"""Entries of the top directory that are compared."""

_NETWORK = ("nfs", "nfs4", "cifs", "smb3", "ceph", "glusterfs", "lustre", "9p", "beegfs", "fuse.sshfs")
"""File systems whose identifier each client makes itself; the server says which it is."""


class Sighting(NamedTuple):
    """A directory as it is seen: its mount's type and, of a network file system, the server; the file system's
    identifier, the inode and its birth, how numbers are mapped, what is mounted below it, and of some of the names in
    it the inodes."""

    path: str
    type: str
    server: str
    filesystem: str
    inode: int
    birth: int
    id_map: IdMap | None
    mounts_below: tuple[str, ...]
    probe: tuple[tuple[bytes, int], ...]


def sight(kernel: Kernel, fd: int, path: str) -> Sighting:
    """What is seen at the absolute ``path`` without links, opened as ``fd``; OSError where it cannot be read."""
    facts = kernel.statx.facts(fd)
    mount = kernel.mount_with_id(facts.mount) or Mount("", "")
    network = mount.type in _NETWORK
    inside = os.open(".", os.O_RDONLY | os.O_DIRECTORY, dir_fd=fd)
    try:
        with os.scandir(inside) as entries:
            some = sorted((os.fsencode(entry.name), entry.inode()) for entry, _ in zip(entries, range(_PROBED)))  # noqa: B905
        name = "" if network else kernel.filesystem_of(inside, facts.device, facts.mount)
    finally:
        os.close(inside)
    below = f"{path.rstrip('/')}/"
    return Sighting(
        path,
        mount.type,
        _server(facts.mount) if network else "",
        name,
        facts.inode,
        facts.birth,
        mount.id_map,
        tuple(sorted(one.point for one in kernel.mounts_known() if one.point.startswith(below))),
        tuple(some),
    )


def _server(number: int) -> str:
    """Whence a mount's file system comes, as ``/proc/self/mountinfo`` names it (proc(5))."""
    with open("/proc/self/mountinfo", "rb") as file:
        for line in file:
            fields = line.split(b" ")
            if fields[0] == b"%d" % number:
                return os.fsdecode(fields[fields.index(b"-", 6) + 2])
    return ""


def expect_same(asked: Sighting, seen: Sighting, fd: int) -> None:
    """Raise :class:`EngineError` unless what is ``seen`` here, opened as ``fd``, is the tree that is ``asked`` for."""
    what = (
        ("type", "a file system of type", asked.type, seen.type),
        ("server", "that of", asked.server, seen.server),
        ("filesystem", "one with the identifier", asked.filesystem, seen.filesystem),
        ("inode", "the directory with inode", asked.inode, seen.inode),
        ("birth", "one that was made at", asked.birth, seen.birth),
        ("id_map", "one whose numbers are mapped as", asked.id_map, seen.id_map),
    )
    for _, about, theirs, ours in what:
        if theirs != ours:
            raise EngineError(f"it sees another file system at {quoted(asked.path)}: {about} {ours}, not {theirs}")
    if asked.mounts_below != seen.mounts_below:
        differ = sorted({*asked.mounts_below} ^ {*seen.mounts_below})
        where = joined(quoted(point) for point in differ[:3])
        raise EngineError(
            f"it sees another tree below {quoted(asked.path)}: something is mounted on one side at {where}"
        )
    if asked.probe and not any(_inode(fd, name) == inode for name, inode in asked.probe):
        raise EngineError(f"it sees another tree at {quoted(asked.path)}: nothing in it has the same inode")


def _inode(fd: int, name: bytes) -> int:
    try:
        return os.stat(name, dir_fd=fd, follow_symlinks=False).st_ino
    except OSError:
        return 0
