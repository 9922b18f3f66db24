"""The checks for changing an object's own posture: its mode, its owner, its group.

chmod(2), chown(2), capabilities(7); the kernel's ``may_setattr``,
``setattr_prepare``, ``chown_ok`` and ``chgrp_ok``.
"""

import errno
from collections.abc import Iterator

from fiat.core.model import capabilities
from fiat.core.model.mode import SETGID, SETUID
from fiat.core.model.posture import Object
from fiat.core.model.principals import places
from fiat.core.rules.check import Check, Context, flat, has_flag
from fiat.core.tree.route import Route


def change_mode(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Change the mode or the access list: the owner may, and CAP_FOWNER."""
    yield from _unchangeable(object_, "change-mode")
    owner = context.universe.with_uid(object_.posture.uid)
    allowed = owner | context.universe.holding(capabilities.FOWNER)
    yield flat(object_, "change-mode", errno.EPERM, "owner-only", allowed)


def change_owner(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Give it to another user: only CAP_CHOWN may."""
    yield from _unchangeable(object_, "change-owner")
    allowed = context.universe.holding(capabilities.CHOWN)
    yield flat(object_, "change-owner", errno.EPERM, "superuser-only", allowed)
    yield from _clearing_special_bits(context, object_, "change-owner")


def change_group(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Give it some other group: the owner may choose among their own groups; CAP_CHOWN any."""
    yield from _unchangeable(object_, "change-group")
    universe, posture = context.universe, object_.posture
    allowed = universe.holding(capabilities.CHOWN)
    for place in places(universe.with_uid(posture.uid)):
        if universe.principals[place].gids - {posture.gid}:
            allowed |= 1 << place
    yield flat(object_, "change-group", errno.EPERM, "owner-in-other-group", allowed)
    yield from _clearing_special_bits(context, object_, "change-group")


def _clearing_special_bits(context: Context, object_: Object, needs: str) -> Iterator[Check]:
    """A change of owner or group clears setuid and setgid, and that is a change of mode.

    ``chown_common`` and ``setattr_should_drop_sgid``: setuid goes, setgid goes
    where the group may execute, and otherwise for those who are neither in
    the group nor hold CAP_FSETID; on directories both stay.
    """
    posture, universe = object_.posture, context.universe
    if posture.directory:
        return
    untouched = universe.everyone
    if posture.mode & SETUID or posture.mode & (SETGID | 0o010) == SETGID | 0o010:
        untouched = 0
    elif posture.mode & SETGID:
        untouched = universe.in_group(posture.gid) | universe.holding(capabilities.FSETID)
    if untouched != universe.everyone:
        may_change_mode = universe.with_uid(posture.uid) | universe.holding(capabilities.FOWNER)
        yield flat(object_, needs, errno.EPERM, "clears-special", untouched | may_change_mode)


def _unchangeable(object_: Object, needs: str) -> Iterator[Check]:
    """What refuses everyone alike: a read-only mount, then the flags."""
    if object_.mount is not None and object_.mount.read_only:
        yield flat(object_, needs, errno.EROFS, "read-only")
    for flag in ("immutable", "append-only"):
        if has_flag(object_, flag):
            yield flat(object_, needs, errno.EPERM, flag)
