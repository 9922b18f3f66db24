"""What a wish means for one posture."""

from fiat.core.model import accesslist
from fiat.core.model.accesslist import AccessList, Entry, Tag, from_mode
from fiat.core.model.kind import Kind
from fiat.core.model.mode import EXECUTE, EXECUTE_BITS, PERMISSION_BITS, READ, SPECIAL
from fiat.core.model.posture import FLAGS, Posture
from fiat.core.model.wish import ListWish, Wish
from fiat.core.rules.effective import effective
from fiat.core.rules.sideeffects import Actor, after_owner, with_mode


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
