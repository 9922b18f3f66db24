"""What a wish makes of a posture, and the steps there: what the kernel is asked for, and what that will do.

What the kernel does by itself, and who may ask it for what, are rules of
:mod:`fiat.core.rules.sideeffects` and :mod:`fiat.core.rules.attributes`.
"""

import errno
from collections.abc import Collection, Iterable, Iterator
from functools import lru_cache
from typing import NamedTuple

from fiat.core.model import accesslist, capabilities
from fiat.core.model.accesslist import AccessList, Entry, Tag, from_mode
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.idmap import NO_NUMBERS
from fiat.core.model.mode import EXECUTE, EXECUTE_BITS, PERMISSION_BITS, READ, SPECIAL
from fiat.core.model.posture import FLAGS, Kind, Mount, Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.wish import ListWish, Wish
from fiat.core.rules.attributes import (
    may_change_flags,
    may_change_mode,
    may_choose_group,
    may_choose_owner,
    out_of_range,
    refused_to_everyone,
    unmapped_in,
)
from fiat.core.rules.decision import Decision
from fiat.core.rules.effective import effective
from fiat.core.rules.sideeffects import Actor, after_list, after_mode, after_owner, is_too_long, with_mode


def wanted(posture: Posture, wish: Wish, actor: Actor, umask: int) -> Posture:
    """What an object that has ``posture`` should have after ``actor`` has changed it.

    What the kernel clears when the owner changes stays cleared, unless the
    wish sets it. A symlink has nothing but an owner. Raises
    :class:`InvalidAccessList` where a list would come out that is none.
    """
    like = wish.like
    uid = wish.uid if wish.uid is not None else like.uid if like else posture.uid
    gid = wish.gid if wish.gid is not None else like.gid if like else posture.gid
    goal = posture
    if (uid, gid) != (posture.uid, posture.gid):
        goal = after_owner(posture, uid, gid, actor)
    if posture.kind is Kind.SYMLINK:
        return goal
    if like is not None:
        goal = _like(goal, like)
    change = wish.mode_for(posture)
    if change is not None:
        mode = change.apply(goal.mode, directory=posture.directory, umask=umask)
        goal = goal._replace(mode=mode, acl=with_mode(goal.acl, mode) if goal.acl else None)
    if wish.access.changes:
        acl = _with(goal.acl or from_mode(goal.mode), wish.access, posture)
        mode = goal.mode & SPECIAL | acl.mode()
        goal = goal._replace(mode=mode, acl=None if acl.is_mode_only() else acl)
    if wish.default.changes and posture.directory:
        goal = goal._replace(default=_default(goal, wish.default))
    return goal if goal.flags is None else goal._replace(flags=_flags(goal, wish))


def _flags(goal: Posture, wish: Wish) -> tuple[str, ...]:
    """The flags with those that are asked for; only files and directories carry any."""
    if goal.kind not in (Kind.FILE, Kind.DIRECTORY):
        return ()
    wanted = {*(goal.flags or ()), *wish.flags} - {*wish.no_flags}
    return tuple(flag for flag in FLAGS if flag in wanted)


def _with(acl: AccessList, wish: ListWish, posture: Posture) -> AccessList:
    """``acl`` as ``wish`` has it, the mask being the union of the group class unless it is given."""
    if wish.drop:
        acl = _without_names(acl)
    added = [one.on(posture) for one in wish.entries]
    if wish.mask is not None:
        added.append(Entry(Tag.MASK, wish.mask))
    return accesslist.with_entries(acl, added, wish.remove) if added or wish.remove else acl


def _without_names(acl: AccessList) -> AccessList:
    """The owner, the owning group and other, each with what it effectively had."""
    kept = (Tag.OWNER, Tag.OWNING_GROUP, Tag.OTHER)
    return AccessList(
        tuple(entry._replace(permissions=effective(entry, acl.mask)) for entry in acl.entries if entry.tag in kept)
    )


def _default(goal: Posture, wish: ListWish) -> AccessList | None:
    """The default list; a new one begins with what the directory itself gives its owner, group and other."""
    if wish.drop and not (wish.entries or wish.mask is not None):
        return None
    if goal.default is None and not (wish.entries or wish.mask is not None):
        return None  # nothing to take away
    start = goal.default or _without_names(goal.acl or from_mode(goal.mode))
    return _with(start, wish, goal)


def _like(goal: Posture, like: Posture) -> Posture:
    """``goal`` with the mode and the lists of ``like``.

    Between a directory and something else neither special bits nor default
    lists go over; and execute is decided as X decides it: a directory gets it
    with read, a file that nobody may execute does not.
    """
    if goal.directory == like.directory:
        kept = like.acl if like.acl is not None and not like.acl.is_mode_only() else None
        return goal._replace(mode=like.mode, acl=kept, default=like.default)
    executable = bool(goal.mode & EXECUTE_BITS)

    def fit(entry: Entry) -> Entry:
        if entry.tag is Tag.MASK and goal.directory:
            return entry._replace(permissions=entry.permissions | EXECUTE)
        if goal.directory:
            return entry._replace(permissions=entry.permissions | (EXECUTE if entry.permissions & READ else 0))
        return entry if executable else entry._replace(permissions=entry.permissions & ~EXECUTE)

    acl = AccessList(tuple(map(fit, (like.acl or from_mode(like.mode)).entries)))
    mode = goal.mode & SPECIAL | acl.mode() & PERMISSION_BITS
    return goal._replace(mode=mode, acl=None if acl.is_mode_only() else acl)


class Steps(NamedTuple):
    """What the kernel is asked for, in this order; None where it is not asked for that.

    The owner comes before the mode, so that nobody is handed a file that is
    setuid. The list comes before the mode, so that the mode never raises the
    mask over entries that are about to go. Flags that keep all of it from
    changing are cleared first (``flags_first`` are what is left of them then)
    and set last.
    """

    uid: int | None = None
    gid: int | None = None
    acl: AccessList | None = None
    mode: int | None = None
    default: AccessList | None = None
    no_default: bool = False
    capabilities: FileCapabilities | None = None
    no_capabilities: bool = False
    flags_first: tuple[str, ...] | None = None
    flags: tuple[str, ...] | None = None


_NO_STEPS = Steps()


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

    def for_owners_of(self, before: Posture) -> "Change":
        """The same change of an object that differs from the one it is of in nothing but owner and group, by steps that
        set none."""
        uid, gid = before.uid, before.gid
        states = (Posture._make((*state[:2], uid, gid, *state[4:])) for state in (self.after, *self.between))
        after, *between = states
        return Change(before, after, self.steps, tuple(between), self.errno)


def through_flags(before: Posture, after: Posture, between: Iterable[Posture]) -> bool:
    """Whether flags that are set before and after were cleared in one of the states between."""
    kept = set(before.flags or ()) & set(after.flags or ())
    return bool(kept) and any(state.flags is not None and kept - set(state.flags) for state in between)


def steps_towards(before: Posture, wanted: Posture, actor: Principal, *, through: bool = False) -> Steps:
    """The steps that make ``wanted`` of ``before``, as far as they can; only those that are needed.

    Flags that ``wanted`` has as well are cleared for the other steps only where they may go ``through``
    them. What is not known of flags is left alone.
    """
    found = _without_flags(before, wanted, actor)
    had, wish = before.flags, wanted.flags
    if had is None or wish is None:
        return found
    now = had
    if had and found != _NO_STEPS:
        now = () if through else tuple(flag for flag in had if flag in wish)
    return found._replace(flags_first=now if now != had else None, flags=wish if wish != now else None)


def _without_flags(before: Posture, wanted: Posture, actor: Principal) -> Steps:
    """The steps for everything but the flags."""
    uid = wanted.uid if wanted.uid != before.uid else None
    gid = wanted.gid if wanted.gid != before.gid else None
    now = before if uid is None and gid is None else after_owner(before, uid, gid, actor)
    acl = mode = None
    by_mode = now.acl is not None and wanted.acl == with_mode(now.acl, wanted.mode)  # as chmod(2) keeps it in step
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
    for number, after in _Taking(actor, mount, keeps_lists).all(before, steps):
        if number:
            return Change(before, before, steps, errno=number)
        now = after
        states.append(after)
    between = tuple(dict.fromkeys(state for state in states if state not in (before, now)))
    return Change(before, now, steps, between)


@lru_cache(16)
def _alone(actor: Principal) -> Universe:
    return Universe([actor])


class _Taking:
    """One who acts, on one kind of file system: what the kernel says to each step."""

    def __init__(self, actor: Principal, mount: Mount | None, keeps_lists: bool | None) -> None:
        self.actor = actor
        self.mount = mount
        self.no_lists = errno.EOPNOTSUPP if keeps_lists is False else 0
        self._alone = _alone(actor)

    def all(self, now: Posture, steps: Steps) -> Iterator[tuple[int, Posture]]:
        """After each step the posture, or the errno with which the kernel refuses it."""
        if steps.flags_first is not None:
            yield self._flags_refused(now), (now := now._replace(flags=steps.flags_first))
        if steps.uid is not None or steps.gid is not None:
            refused = self._no_numbers({steps.uid}, {steps.gid}) or self._refused(now)
            refused = refused or self._owner_refused(now, steps.uid, steps.gid)
            yield refused, (now := after_owner(now, steps.uid, steps.gid, self.actor))
        if steps.acl is not None:
            none = errno.EOPNOTSUPP if now.kind is Kind.SYMLINK else self.no_lists
            refused = self._too_long(steps.acl) or self._no_list(steps.acl) or self._refused(now) or none
            refused = refused or self._list_refused(now, steps.acl)
            yield refused, (now := after_list(now, steps.acl, self.actor))
        if steps.mode is not None:
            none = errno.EOPNOTSUPP if now.kind is Kind.SYMLINK else errno.EOVERFLOW if now.unmapped else 0
            refused = self._refused(now) or none or self._mode_refused(now)
            yield refused, (now := after_mode(now, steps.mode, self.actor))
        if steps.default is not None or steps.no_default:
            none = self.no_lists or (0 if now.directory else errno.EACCES)
            long = 0 if steps.default is None else self._too_long(steps.default) or self._no_list(steps.default)
            refused = long or self._refused(now) or none or self._list_refused(now, steps.default)
            yield refused, (now := now._replace(default=steps.default))
        if steps.capabilities is not None or steps.no_capabilities:
            may = self.actor.holds(capabilities.SETFCAP) and now.uid not in NO_NUMBERS and now.gid not in NO_NUMBERS
            refused = self._refused(now) or (0 if may else errno.EPERM)
            yield refused, (now := now._replace(capabilities=steps.capabilities))
        if steps.flags is not None:
            yield self._flags_refused(now), now._replace(flags=steps.flags)

    def _too_long(self, acl: AccessList) -> int:
        return errno.E2BIG if is_too_long(acl, self.mount.type if self.mount is not None else None) else 0

    def _no_list(self, acl: AccessList) -> int:
        """Why it is none before anybody asks who sets it: with a number that is none (``posix_acl_from_xattr``)."""
        if acl.unmapped:
            return 0 if self._read_only else errno.EINVAL
        return self._no_numbers(*acl.named())

    def _no_numbers(self, uids: Collection[int | None], gids: Collection[int | None]) -> int:
        """Why the one who acts cannot name such users or groups: their user namespace does not know them (EINVAL)."""
        limits = self.actor.limits
        known = limits is None or (
            all(limits.count_for(uid, None) for uid in uids) and all(limits.count_for(None, gid) for gid in gids)
        )
        return 0 if known or self._read_only else errno.EINVAL

    @property
    def _read_only(self) -> bool:
        return self.mount is not None and self.mount.read_only

    def _refused(self, posture: Posture) -> int:
        return refused_to_everyone(posture, self.mount)[0]

    def _flags_refused(self, posture: Posture) -> int:
        """Why flags cannot be set: of a file or a directory alone, opened for reading, with CAP_LINUX_IMMUTABLE."""
        if posture.kind not in (Kind.FILE, Kind.DIRECTORY):
            return errno.EOPNOTSUPP
        if not Decision(posture, self._alone).allowed(READ):
            return errno.EACCES
        if self.mount is not None and self.mount.read_only:
            return errno.EROFS
        return 0 if may_change_mode(self._alone, posture) and may_change_flags(self.actor) else errno.EPERM

    def _mode_refused(self, posture: Posture) -> int:
        return 0 if may_change_mode(self._alone, posture) else errno.EPERM

    def _list_refused(self, posture: Posture, acl: AccessList | None) -> int:
        """Why a list is not set; an attribute of what is not mapped is not changed (``may_write_xattr``)."""
        refused = errno.EPERM if posture.unmapped else self._mode_refused(posture)
        return refused or (errno.EINVAL if acl is not None and unmapped_in(acl, self.mount) else 0)

    def _owner_refused(self, posture: Posture, uid: int | None, gid: int | None) -> int:
        if out_of_range(posture, self.mount, uid, gid):
            return errno.EOVERFLOW
        if uid is not None and not may_choose_owner(self._alone, posture, uid):
            return errno.EPERM
        if gid is not None and not may_choose_group(self._alone, posture, gid):
            return errno.EPERM
        # what the kernel clears by itself is a change of mode
        cleared = after_owner(posture, uid, gid, self.actor).mode != posture.mode
        return self._mode_refused(posture) if cleared else 0
