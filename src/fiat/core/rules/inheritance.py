"""What a new object gets from the directory that it is made in.

open(2), mkdir(2), umask(2); inode(7) on setgid directories; mount options "grpid" and
"bsdgroups" of ext4(5) and xfs(5); acl(5), "OBJECT CREATION AND DEFAULT ACLs"; the kernel's
``inode_init_owner``, ``mode_strip_sgid`` and ``posix_acl_create``.
"""

from typing import NamedTuple, Protocol

from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.mode import PERMISSION_BITS, SETGID, STICKY
from fiat.core.model.posture import Kind, Mount, Posture

_GROUP_OF_DIRECTORY = ("grpid", "bsdgroups")
_SETGID_RUN = SETGID | 0o010


def inherited_modes(default: AccessList, mode: int) -> tuple[int, int]:
    """The modes of a new file and a new directory where a directory of ``mode`` has the default list ``default``.

    A file is asked for with 666, a directory with 777; setgid is handed on to
    directories. No umask counts.
    """
    return default.mode() & 0o666, default.mode() | mode & SETGID


class Creator(Protocol):
    """Who makes something: what of a principal counts."""

    @property
    def uid(self) -> int | None:
        """The number of the user whose file it becomes; None where the maker has none."""

    @property
    def gids(self) -> frozenset[int]:
        """The numbers of all groups of the maker."""

    def holds(self, capability: int) -> bool:
        """Whether the effective capabilities include this one."""


class Creation(NamedTuple):
    """How something is made: by whom, with which group of theirs, asking for which mode, under which umask."""

    maker: Creator
    gid: int
    asking: int
    umask: int


def made(parent: Posture, mount: Mount | None, kind: Kind, making: Creation, *, keeps_lists: bool = True) -> Posture:
    """What a file or a directory (``kind``) is that is made in a directory which has the posture ``parent``."""
    assert making.maker.uid is not None
    default = parent.default if keeps_lists else None
    mode = making.asking & (PERMISSION_BITS | STICKY if kind is Kind.DIRECTORY else 0o7777)
    gid, handed_on = _group(parent, mount, making.gid, kind)
    runs_as_group = kind is not Kind.DIRECTORY and mode & _SETGID_RUN == _SETGID_RUN and parent.mode & SETGID
    if runs_as_group and parent.gid not in making.maker.gids and not making.maker.holds(capabilities.FSETID):
        mode &= ~SETGID  # nobody makes a program that runs in a group which they are not in
    if default is None:
        return Posture(kind, mode & ~making.umask | handed_on, making.maker.uid, gid)
    acl, permissions = _cut(default, mode)
    mode = mode & ~PERMISSION_BITS | permissions | handed_on
    return Posture(
        kind,
        mode,
        making.maker.uid,
        gid,
        None if acl.is_mode_only() else acl,
        default if kind is Kind.DIRECTORY else None,
    )


class _Maker(NamedTuple):
    """Whoever may have made something: nothing but the number counts."""

    uid: int | None
    gids: frozenset[int]

    def holds(self, capability: int) -> bool:
        return True


def may_be_made_so(parent: Posture, mount: Mount | None, found: Posture) -> bool:
    """Whether ``found`` is what the default list of the directory ``parent`` makes, whatever mode was asked for."""
    if parent.default is None or found.kind not in (Kind.FILE, Kind.DIRECTORY):
        return False
    making = Creation(_Maker(found.uid, frozenset({found.gid})), found.gid, found.mode & PERMISSION_BITS, 0)
    return made(parent, mount, found.kind, making) == found._replace(flags=(), capabilities=None)


def hands_on_group(parent: Posture, mount: Mount | None) -> bool:
    """Whether what is made in a directory gets the directory's group: by setgid, or because the mount says so."""
    return bool(parent.mode & SETGID) or _by_mount(mount)


def _by_mount(mount: Mount | None) -> bool:
    options = () if mount is None else (*mount.options, *mount.filesystem_options)
    return any(option in _GROUP_OF_DIRECTORY for option in options)


def _group(parent: Posture, mount: Mount | None, gid: int, kind: Kind) -> tuple[int, int]:
    """The group of what is made, and the setgid that a new directory is handed on."""
    setgid = bool(parent.mode & SETGID)
    if _by_mount(mount) and mount is not None and (mount.type != "xfs" or not setgid):  # there setgid comes first
        return parent.gid, 0
    if setgid:
        return parent.gid, SETGID if kind is Kind.DIRECTORY else 0
    return gid, 0


def _cut(default: AccessList, mode: int) -> tuple[AccessList, int]:
    """The access list that comes of a default list where ``mode`` is asked for, and the nine permission bits."""
    masked = default.mask is not None
    shift = {Tag.OWNER: 6, Tag.OTHER: 0, Tag.MASK if masked else Tag.OWNING_GROUP: 3}
    entries: list[Entry] = []
    permissions = 0
    for entry in default.entries:
        if entry.tag in shift:
            kept = entry.permissions & mode >> shift[entry.tag] & 7
            permissions |= kept << shift[entry.tag]
            entry = entry._replace(permissions=kept)
        entries.append(entry)
    return AccessList(tuple(entries)), permissions
