"""The checks on the way: traversing directories, following symlinks.

path_resolution(7); the kernel's ``link_path_walk``, ``may_follow_link`` and
``pick_link``; proc_sys_fs(5) for ``protected_symlinks``.
"""

import errno
from collections.abc import Iterator

from fiat.core.model.mode import EXECUTE, STICKY
from fiat.core.model.posture import Object
from fiat.core.model.right import TRAVERSE
from fiat.core.model.route import Route, Stage
from fiat.core.rules.check import FOLLOW, Check, Context, flat, has_option

_STICKY_AND_OPEN = STICKY | 0o002


def stage_checks(context: Context, route: Route) -> Iterator[Check]:
    """Traverse on each directory before the next name is looked up; on links what following asks."""
    parent: Object | None = None
    for stage in route.stages:
        if stage.object.posture.directory:
            parent = stage.object
            yield context.permission(parent, TRAVERSE.name, EXECUTE, errno.EACCES)
        else:
            yield from _follow(context, stage, parent)


def _follow(context: Context, stage: Stage, parent: Object | None) -> Iterator[Check]:
    link, everyone = stage.object, context.universe.everyone
    if stage.trailing and context.settings.protected_symlinks and parent is not None:
        posture = parent.posture
        if posture.mode & _STICKY_AND_OPEN == _STICKY_AND_OPEN and posture.uid != link.posture.uid:
            owner = context.universe.with_uid(link.posture.uid)
            yield flat(link, FOLLOW, errno.EACCES, "protected-symlinks", owner)
    if has_option(link.mount, "nosymfollow"):
        yield flat(link, FOLLOW, errno.ELOOP, "nosymfollow")
    yield flat(link, FOLLOW, errno.EACCES, "symlink", everyone)


_FAILURES = {errno.ENOENT: "missing", errno.ENOTDIR: "not-a-directory", errno.ELOOP: "too-many-links"}


def failure_check(route: Route, needs: str) -> Check:
    """The check that nobody passes, because the route does not arrive."""
    return Check(None, route.failed_at, needs, route.errno, 0, _FAILURES.get(route.errno, "error"))
