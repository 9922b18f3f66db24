"""Who may change an object's own posture: its mode, its owner, its group.

chmod(2), chown(2), capabilities(7); the kernel's ``may_setattr``,
``setattr_prepare``, ``chown_ok`` and ``chgrp_ok``.
"""

import errno
from collections.abc import Iterator

from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList
from fiat.core.model.idmap import NO_NUMBERS, UNMAPPED
from fiat.core.model.posture import FLAGS, Mount, Object, Posture
from fiat.core.model.principals import Principal, Universe, places
from fiat.core.model.right import CHANGE_GROUP, CHANGE_MODE, CHANGE_OWNER, Right
from fiat.core.model.route import Route
from fiat.core.rules.checks import Check, Context, flat
from fiat.core.rules.sideeffects import cleared_by_chown


def change_mode(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Change the mode or the access list: the owner may, and CAP_FOWNER."""
    yield from _unchangeable(context, object_, CHANGE_MODE)
    yield from _without_number(object_, CHANGE_MODE, object_.posture.unmapped)
    allowed = may_change_mode(context.universe, object_.posture)
    yield flat(object_, CHANGE_MODE.name, errno.EPERM, "owner-only", allowed)


def change_owner(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Give it to another user: only CAP_CHOWN may."""
    yield from _unchangeable(context, object_, CHANGE_OWNER)
    yield from _without_number(object_, CHANGE_OWNER, object_.posture.gid == UNMAPPED)
    allowed = may_choose_owner(context.universe, object_.posture, None)
    yield flat(object_, CHANGE_OWNER.name, errno.EPERM, "superuser-only", allowed)
    yield from _clearing_special_bits(context, object_, CHANGE_OWNER)


def change_group(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Give it some other group: the owner may choose among their own groups; CAP_CHOWN any.

    Of a number without an account no groups are known; whoever acts by it has one.
    """
    yield from _unchangeable(context, object_, CHANGE_GROUP)
    universe, posture = context.universe, object_.posture
    yield from _without_number(object_, CHANGE_GROUP, posture.uid == UNMAPPED)
    allowed = may_give_away(universe, posture) | _may_give_a_number(universe, posture.gid)
    numbers = object_.mount.id_map if object_.mount is not None else None
    for place in places(universe.with_uid(posture.uid)):
        gids = universe.principals[place].gids
        others = gids - {posture.gid}
        if numbers is not None:
            others = frozenset(gid for gid in others if numbers.groups.inward(gid) is not None)
        if others or not gids:
            allowed |= 1 << place
    yield flat(object_, CHANGE_GROUP.name, errno.EPERM, "owner-in-other-group", allowed)
    yield from _clearing_special_bits(context, object_, CHANGE_GROUP)


def _clearing_special_bits(context: Context, object_: Object, right: Right) -> Iterator[Check]:
    """A change of owner or group that clears setuid or setgid is a change of mode as well."""
    posture, universe = object_.posture, context.universe
    everyone = universe.everyone
    members = universe.in_group(posture.gid) | universe.holders_of(capabilities.FSETID, posture.uid, posture.gid)
    untouched = 0
    for some, in_group in ((members, True), (everyone & ~members, False)):
        if not cleared_by_chown(posture, in_group=in_group, in_new_group=True):
            untouched |= some
    if untouched != everyone:
        yield flat(object_, right.name, errno.EPERM, "clears-special", untouched | may_change_mode(universe, posture))


def _unchangeable(context: Context, object_: Object, right: Right) -> Iterator[Check]:
    """What refuses everyone alike: a read-only mount, then the flags; and a FUSE mount that lets in just one."""
    number, rule = refused_to_everyone(object_.posture, object_.mount)
    if number:
        yield flat(object_, right.name, number, rule)
    mount = object_.mount
    if mount is not None and mount.lets_in is not None:
        yield flat(object_, right.name, errno.EACCES, "fuse", context.universe.only_of(*mount.lets_in))


def _without_number(object_: Object, right: Right, unmapped: bool) -> Iterator[Check]:
    """What has an owner or a group that is not mapped is not changed, but for giving it one (``notify_change``)."""
    if unmapped:
        yield flat(object_, right.name, errno.EOVERFLOW, "unmapped")


# --- the conditions, which making a change is held to as well ----------------------


def refused_to_everyone(posture: Posture, mount: Mount | None) -> tuple[int, str]:
    """The errno with which any change of a posture is refused, whoever makes it, and the rule; 0 if it is not."""
    if mount is not None and mount.read_only:
        return errno.EROFS, "read-only"
    for flag in FLAGS:
        if flag in (posture.flags or ()):
            return errno.EPERM, flag
    return 0, ""


def may_change_mode(universe: Universe, posture: Posture) -> int:
    """The set of principals that may change the mode and the lists (``inode_owner_or_capable``)."""
    return universe.with_uid(posture.uid) | universe.holders_of(capabilities.FOWNER, posture.uid)


def may_change_flags(actor: Principal) -> bool:
    """Whether ``actor`` may set or clear immutable and append-only: CAP_LINUX_IMMUTABLE (``fileattr_set_prepare``).

    It counts only in the user namespace that the machine began with.
    """
    limits = actor.limits
    return actor.holds(capabilities.LINUX_IMMUTABLE) and (limits is None or limits.users is None)


def may_give_away(universe: Universe, posture: Posture) -> int:
    """The set of principals that may give an object to any user and any group."""
    return universe.holders_of(capabilities.CHOWN, posture.uid, posture.gid)


def _may_give_a_number(universe: Universe, number: int) -> int:
    """The set of principals that may give an owner, or a group, to what has none that is mapped."""
    return universe.holders_of(capabilities.CHOWN) if number == UNMAPPED else 0


def may_choose_owner(universe: Universe, posture: Posture, uid: int | None) -> int:
    """The set of principals that may make ``uid`` the owner, None being anybody else; an owner may say so of what is
    theirs (``chown_ok``)."""
    owner = universe.with_uid(posture.uid) if uid == posture.uid else 0
    return may_give_away(universe, posture) | owner | _may_give_a_number(universe, posture.uid)


def may_choose_group(universe: Universe, posture: Posture, gid: int) -> int:
    """The set of principals that may make ``gid`` the group: owners that are in it (``chgrp_ok``)."""
    owners = universe.with_uid(posture.uid)
    theirs = owners if gid == posture.gid else owners & universe.in_group(gid)
    return may_give_away(universe, posture) | theirs | _may_give_a_number(universe, posture.gid)


def out_of_range(posture: Posture, mount: Mount | None, uid: int | None, gid: int | None) -> bool:
    """Whether such a change of owner and group (None for: left as it is) leaves or gives one that has no number on disk
    (``notify_change``, EOVERFLOW)."""
    numbers = mount.id_map if mount is not None else None
    if numbers is None:
        return uid in NO_NUMBERS or gid in NO_NUMBERS
    one = posture.uid == UNMAPPED if uid is None else numbers.users.inward(uid) is None
    other = posture.gid == UNMAPPED if gid is None else numbers.groups.inward(gid) is None
    return one or other


def unmapped_in(acl: AccessList, mount: Mount | None) -> bool:
    """Whether a list names somebody who has no number on disk (``posix_acl_valid``, EINVAL)."""
    uids, gids = acl.named()
    numbers = mount.id_map if mount is not None else None
    if acl.unmapped or numbers is None:
        return acl.unmapped
    return any(numbers.users.inward(uid) is None for uid in uids) or any(
        numbers.groups.inward(gid) is None for gid in gids
    )
