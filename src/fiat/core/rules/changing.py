"""What a change does to a posture, step by step, the kernel's side effects included.

chmod(2), chown(2), inode(7), acl(5), capabilities(7); the kernel's
``fs/attr.c`` (``setattr_prepare``, ``may_setattr``, ``notify_change``,
``setattr_should_drop_sgid``), ``fs/open.c`` (``chown_common``) and
``fs/posix_acl.c`` (``posix_acl_chmod``, ``posix_acl_update_mode``).
"""

import errno
from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList, from_mode
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.mode import SETGID, SETUID, SPECIAL
from fiat.core.model.posture import Kind, Mount, Posture
from fiat.core.model.principals import Principal


class Steps(NamedTuple):
    """What the kernel is asked for, in this order; None where it is not asked for that.

    The owner comes before the mode, so that nobody is handed a file that is
    setuid. The list comes before the mode, so that the mode never raises the
    mask over entries that are about to go.
    """

    uid: int | None = None
    gid: int | None = None
    acl: AccessList | None = None
    mode: int | None = None
    default: AccessList | None = None
    no_default: bool = False
    capabilities: FileCapabilities | None = None
    no_capabilities: bool = False


class Change(NamedTuple):
    """What steps will do to an object that has the posture ``before``.

    ``errno`` is the kernel's refusal, or 0. ``between`` are the postures that
    it has after each step but the last, should nothing come after that.
    """

    before: Posture
    after: Posture
    steps: Steps = Steps()
    between: tuple[Posture, ...] = ()
    errno: int = 0

    @property
    def changes(self) -> bool:
        """Whether anything will be different."""
        return not self.errno and self.after != self.before


def steps_towards(before: Posture, wanted: Posture, actor: Principal) -> Steps:
    """The steps that make ``wanted`` of ``before``, as far as they can; only those that are needed."""
    uid = wanted.uid if wanted.uid != before.uid else None
    gid = wanted.gid if wanted.gid != before.gid else None
    now = before if uid is None and gid is None else after_owner(before, uid, gid, actor)
    acl = mode = None
    by_mode = now.acl is not None and wanted.acl == now.acl.with_mode(wanted.mode)  # as chmod(2) keeps it in step
    if wanted.acl != now.acl and not by_mode:
        acl = wanted.acl or from_mode(wanted.mode)
        now = after_list(now, acl, actor)
    if wanted.mode != now.mode and now.kind is not Kind.SYMLINK:
        mode = wanted.mode
    changed = wanted.capabilities != now.capabilities
    return Steps(
        uid,
        gid,
        acl,
        mode,
        wanted.default if wanted.default != before.default else None,
        wanted.default is None and before.default is not None,
        wanted.capabilities if changed else None,
        changed and wanted.capabilities is None,
    )


def change(before: Posture, steps: Steps, actor: Principal, mount: Mount | None, keeps_lists: bool | None) -> Change:
    """What ``steps``, taken by ``actor``, will do to an object on ``mount``."""
    states = []
    now = before
    for number, after in _taken(before, steps, actor, mount, keeps_lists):
        if number:
            return Change(before, before, steps, errno=number)
        now = after
        states.append(after)
    between = tuple(dict.fromkeys(state for state in states if state not in (before, now)))
    return Change(before, now, steps, between)


def _taken(
    now: Posture, steps: Steps, actor: Principal, mount: Mount | None, keeps_lists: bool | None
) -> Iterator[tuple[int, Posture]]:
    """After each step the posture, or the errno with which the kernel refuses it."""
    if steps.uid is not None or steps.gid is not None:
        number = _refused(now, mount) or _owner_refused(now, steps.uid, steps.gid, actor)
        now = after_owner(now, steps.uid, steps.gid, actor)
        yield number, now
    if steps.acl is not None:
        no_lists = errno.EOPNOTSUPP if now.kind is Kind.SYMLINK or keeps_lists is False else 0
        yield _refused(now, mount) or no_lists or _not_owner(now, actor), (now := after_list(now, steps.acl, actor))
    if steps.mode is not None:
        no_mode = errno.EOPNOTSUPP if now.kind is Kind.SYMLINK else 0
        yield _refused(now, mount) or no_mode or _not_owner(now, actor), (now := after_mode(now, steps.mode, actor))
    if steps.default is not None or steps.no_default:
        no_lists = errno.EOPNOTSUPP if keeps_lists is False else 0 if now.directory else errno.EACCES
        number = _refused(now, mount) or no_lists or _not_owner(now, actor)
        yield number, (now := now._replace(default=steps.default))
    if steps.capabilities is not None or steps.no_capabilities:
        number = _refused(now, mount) or (0 if actor.holds(capabilities.SETFCAP) else errno.EPERM)
        yield number, now._replace(capabilities=steps.capabilities)


# --- what each step does ----------------------------------------------------


def after_owner(posture: Posture, uid: int | None, gid: int | None, actor: Principal) -> Posture:
    """``posture`` with another owner or group, and without what the kernel clears then.

    Of anything but a directory it clears setuid and the file capabilities;
    and setgid where the group may execute, or where the one who acts is not
    in the group (the old one, or, when the mode changes, the new one).
    """
    new_gid = posture.gid if gid is None else gid
    mode = posture.mode
    if not posture.directory:
        cleared = mode & SETUID
        if mode & SETGID and (mode & 0o010 or not _in_group(actor, posture.gid)):
            cleared |= SETGID
        if cleared and not _in_group(actor, new_gid):
            cleared |= mode & SETGID
        mode &= ~cleared
    return posture._replace(
        uid=posture.uid if uid is None else uid,
        gid=new_gid,
        mode=mode,
        capabilities=posture.capabilities if posture.directory else None,
    )


def after_mode(posture: Posture, mode: int, actor: Principal) -> Posture:
    """``posture`` with the twelve bits of ``mode``, its list kept in step.

    setgid is left out where the one who acts is not in the group.
    """
    if mode & SETGID and not _in_group(actor, posture.gid):
        mode &= ~SETGID
    return posture._replace(mode=mode, acl=posture.acl.with_mode(mode) if posture.acl else None)


def after_list(posture: Posture, acl: AccessList, actor: Principal) -> Posture:
    """``posture`` with another access list, its mode kept in step; a list that the mode says all of is not kept.

    setgid goes where the one who acts is not in the group.
    """
    mode = posture.mode & SPECIAL | acl.mode()
    if mode & SETGID and not _in_group(actor, posture.gid):
        mode &= ~SETGID
    return posture._replace(mode=mode, acl=None if acl.is_mode_only() else acl)


def _in_group(actor: Principal, gid: int) -> bool:
    """The kernel's ``in_group_or_capable``."""
    return gid in actor.gids or actor.holds(capabilities.FSETID)


# --- who may ------------------------------------------------------------------


def _refused(posture: Posture, mount: Mount | None) -> int:
    """The errno with which any change is refused, whoever acts; 0 if it is not."""
    if mount is not None and mount.read_only:
        return errno.EROFS
    flags = posture.flags or ()
    return errno.EPERM if "immutable" in flags or "append-only" in flags else 0


def _not_owner(posture: Posture, actor: Principal) -> int:
    return 0 if posture.uid == actor.uid or actor.holds(capabilities.FOWNER) else errno.EPERM


def _owner_refused(posture: Posture, uid: int | None, gid: int | None, actor: Principal) -> int:
    """The kernel's ``chown_ok`` and ``chgrp_ok``; what it clears by itself is a change of mode."""
    if not actor.holds(capabilities.CHOWN):
        if uid is not None and (posture.uid != actor.uid or uid != posture.uid):
            return errno.EPERM
        if gid is not None and (posture.uid != actor.uid or (gid not in actor.gids and gid != posture.gid)):
            return errno.EPERM
    cleared = after_owner(posture, uid, gid, actor).mode != posture.mode
    return _not_owner(posture, actor) if cleared else 0
