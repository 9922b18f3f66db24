"""What the kernel does by itself when an owner, a mode or a list changes.

chmod(2), chown(2), inode(7), acl(5), capabilities(7); the kernel's
``fs/attr.c`` (``setattr_should_drop_sgid``, ``setattr_should_drop_suidgid``),
``fs/open.c`` (``chown_common``) and ``fs/posix_acl.c`` (``posix_acl_chmod``,
``posix_acl_update_mode``).
"""

from functools import lru_cache

from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.listbytes import MOST_ENTRIES
from fiat.core.model.mode import SETGID, SETUID, SPECIAL
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal

_MOST_ON = {"xfs": 5_461}
_MAY_BE_TOO_MANY = {"ext2": 110, "ext3": 110, "ext4": 110, "btrfs": 1_900}


def is_too_long(acl: AccessList, filesystem: str | None) -> bool:
    """Whether no file system of this type keeps such a list (E2BIG)."""
    return len(acl.entries) > _MOST_ON.get(filesystem or "", MOST_ENTRIES)


def may_be_too_long(acl: AccessList, filesystem: str | None) -> bool:
    """Whether it may be more than such a file system has room for (ENOSPC), which only trying tells."""
    return len(acl.entries) > _MAY_BE_TOO_MANY.get(filesystem or "", MOST_ENTRIES)


Actor = Principal
"""Who makes a change."""


def keeps_setgid(actor: Actor, gid: int) -> bool:
    """Whether ``actor`` may leave setgid on what the group ``gid`` owns: the kernel's ``in_group_or_capable``."""
    return gid in actor.gids or actor.holds(capabilities.FSETID)


def cleared_by_chown(posture: Posture, *, in_group: bool, in_new_group: bool) -> int:
    """The special bits that go with a change of owner or group; none on a directory.

    setuid goes; setgid goes where the group may execute, or where the one
    who acts is not in the group (the old one, or, when the mode changes, the
    new one). *In* the group counts as well who holds CAP_FSETID.
    """
    mode = posture.mode
    if posture.directory:
        return 0
    cleared = mode & SETUID
    if mode & SETGID and (mode & 0o010 or not in_group):
        cleared |= SETGID
    if cleared and not in_new_group:
        cleared |= mode & SETGID
    return cleared


def after_owner(posture: Posture, uid: int | None, gid: int | None, actor: Actor) -> Posture:
    """``posture`` with another owner or group, and without what the kernel clears then.

    Of anything but a directory the file capabilities go too.
    """
    new_gid = posture.gid if gid is None else gid
    cleared = cleared_by_chown(
        posture, in_group=keeps_setgid(actor, posture.gid), in_new_group=keeps_setgid(actor, new_gid)
    )
    return posture._replace(
        uid=posture.uid if uid is None else uid,
        gid=new_gid,
        mode=posture.mode & ~cleared,
        capabilities=posture.capabilities if posture.directory else None,
    )


def torn(posture: Posture) -> bool:
    """Whether list and mode contradict each other: it was read while somebody changed it.

    The kernel keeps both in step (acl(5), "Correspondence between ACL entries and file permission bits"), but
    gives them out one after the other.
    """
    return posture.acl is not None and with_mode(posture.acl, posture.mode) != posture.acl


def after_mode(posture: Posture, mode: int, actor: Actor) -> Posture:
    """``posture`` with the twelve bits of ``mode``, its list kept in step."""
    mode = _without_setgid(mode, posture.gid, actor)
    return posture._replace(mode=mode, acl=with_mode(posture.acl, mode) if posture.acl else None)


def after_list(posture: Posture, acl: AccessList, actor: Actor) -> Posture:
    """``posture`` with another access list, its mode kept in step; a list that the mode says all of is not kept."""
    mode = _without_setgid(posture.mode & SPECIAL | acl.mode(), posture.gid, actor)
    return posture._replace(mode=mode, acl=None if acl.is_mode_only() else acl)


def _without_setgid(mode: int, gid: int, actor: Actor) -> int:
    """``mode`` as the kernel sets it: setgid is left out where the one who acts is not in the group."""
    return mode & ~SETGID if mode & SETGID and not keeps_setgid(actor, gid) else mode


@lru_cache(4096)
def with_mode(acl: AccessList, mode: int) -> AccessList:
    """``acl`` after the kernel set the nine bits of ``mode``.

    Owner and other follow the mode; the group bits go to the mask, or to
    the owning group's entry where there is no mask (``posix_acl_chmod``).
    """
    group_tag = Tag.OWNING_GROUP if acl.mask is None else Tag.MASK
    new = {Tag.OWNER: mode >> 6 & 7, group_tag: mode >> 3 & 7, Tag.OTHER: mode & 7}
    return AccessList(
        tuple([Entry(entry.tag, new.get(entry.tag, entry.permissions), entry.id) for entry in acl.entries])
    )
