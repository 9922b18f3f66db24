"""The kernel's checks, by what is asked for: of names in a directory, of one object, of each directory on the way."""

import errno
from collections.abc import Callable, Iterator
from typing import NamedTuple

from fiat.core.model import capabilities
from fiat.core.model.host import Settings
from fiat.core.model.idmap import UNMAPPED
from fiat.core.model.mode import EXECUTE, STICKY
from fiat.core.model.posture import LIMITS, NEVER_READ_ONLY, Kind, Mount, Object
from fiat.core.model.principals import Universe
from fiat.core.model.right import APPEND, CREATE, LIST, RENAME, TRAVERSE, Right
from fiat.core.model.right import READ as RIGHT_TO_READ
from fiat.core.model.right import WRITE as RIGHT_TO_WRITE
from fiat.core.model.route import Route, Stage
from fiat.core.rules.decision import Decisions, Reason

FOLLOW = "follow"
"""What following a symlink asks of the symlink."""


class Check(NamedTuple):
    """One thing the kernel checks on the way to a right.

    ``object`` is None where there is nothing at ``path``. ``needs`` is the name
    of a right, or ``follow``. ``passers`` is the set of principals that pass.
    ``rule`` names what decides for everyone alike; where it is empty, the
    classes of the object decide and ``reason`` tells how. ``runs_for`` is the
    file for whose sake an interpreter or a loader is walked to and run, and a
    script itself read; else empty. ``want`` are the permissions that are asked
    of the classes, where these decide.
    """

    object: Object | None
    path: str
    needs: str
    errno: int
    passers: int
    rule: str = ""
    reason: Callable[[int], Reason] | None = None
    runs_for: str = ""
    want: int = 0


class Step(NamedTuple):
    """One check as it went for one principal.

    ``reason`` holds the entry that decided, None where ``rule`` is not one of
    the classes'. ``errno`` is 0 where the step is allowed.
    """

    object: Object | None
    path: str
    needs: str
    allowed: bool
    rule: str
    errno: int = 0
    reason: Reason | None = None
    runs_for: str = ""
    want: int = 0


class Verdict(NamedTuple):
    """The answer for one principal, one right, one path.

    ``steps`` go up to the blocker, ``beyond`` holds the checks after it,
    which the kernel never makes.
    """

    allowed: bool
    errno: int
    blocker: Step | None
    steps: tuple[Step, ...]
    beyond: tuple[Step, ...]

    @property
    def deciding(self) -> Step:
        """The step that decided: the blocker, or the last one passed."""
        return self.blocker or self.steps[-1]


class Context(NamedTuple):
    """What every check is made with."""

    universe: Universe
    settings: Settings
    decisions: Decisions

    def after_exec(self) -> "Context":
        """The context of the programs that the principals run; this very one where that makes no difference."""
        universe = self.universe.after_exec()
        return self if universe is self.universe else Context(universe, self.settings, Decisions(universe))

    def permission(self, object_: Object, needs: str, want: int, errno: int) -> Check:
        """The check that the mode, the list and capabilities make for ``want`` (0 to 7)."""
        decision = self.decisions.of(object_.posture)
        return Check(
            object_,
            object_.path,
            needs,
            errno,
            decision.allowed(want),
            reason=lambda place: decision.reason(place, want),
            want=want,
        )


def flat(object_: Object, needs: str, errno: int, rule: str, passers: int = 0) -> Check:
    """A check that one condition decides: nobody passes, or just ``passers``."""
    return Check(object_, object_.path, needs, errno, passers, rule)


def has_option(mount: Mount | None, option: str) -> bool:
    """Whether the mount itself has ``option``."""
    return mount is not None and option in mount.options


def limits_on(object_: Object, *, allow_adding: bool) -> Iterator[str]:
    """The flags of an inode that limit change, those that ``allow_adding`` or those that do not; by their names.

    One that could not be read is taken for clear. KeyError for a name that is no flag's.
    """
    for name in object_.posture.flags or ():
        if LIMITS[name].allows_adding is allow_adding:
            yield name


_DEVICES = (Kind.BLOCK, Kind.CHARACTER)


def read(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Open for reading; for a directory, list its names."""
    yield from _device(object_, RIGHT_TO_READ)
    yield from permission(context, object_, RIGHT_TO_READ)


def list_names(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """List the names in a directory."""
    yield from _in_directory(context, object_, LIST)


def traverse(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Enter a directory, or use a name in it."""
    yield from _in_directory(context, object_, TRAVERSE)


def _in_directory(context: Context, object_: Object, right: Right) -> Iterator[Check]:
    if not object_.posture.directory:
        yield flat(object_, right.name, errno.ENOTDIR, "not-a-directory")
        return
    yield from permission(context, object_, right)


def write(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Open for writing; for a directory, add and remove names."""
    yield from _write(context, object_, RIGHT_TO_WRITE)


def append(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Open a file for adding at its end (O_APPEND), which the append-only flag allows."""
    if object_.posture.directory:
        yield flat(object_, APPEND.name, errno.EISDIR, "a-directory")
        return
    yield from _write(context, object_, APPEND)


def _write(context: Context, object_: Object, right: Right) -> Iterator[Check]:
    posture = object_.posture
    yield from _device(object_, right)
    yield from before_permission_to_write(context, object_, right, names=posture.directory)
    yield from permission(context, object_, right)
    if right is not APPEND:
        for flag in limits_on(object_, allow_adding=True):
            yield flat(object_, right.name, errno.EPERM, flag)
    if not posture.directory and posture.kind not in NEVER_READ_ONLY and has_option(object_.mount, "ro"):
        yield flat(object_, right.name, errno.EROFS, "read-only")


def before_permission_to_write(
    context: Context, object_: Object, right: Right, *, names: bool, removed: Object | None = None
) -> Iterator[Check]:
    """What refuses a write before the permission bits are asked.

    A read-only file system and the immutable flag always do. A read-only
    mount does so only where names are changed (``mnt_want_write`` comes first
    there); an existing file is opened, and only then found to be read-only.
    """
    mount = object_.mount
    refused = mount is not None and (mount.filesystem_read_only or (names and has_option(mount, "ro")))
    if refused and object_.posture.kind not in NEVER_READ_ONLY:
        yield flat(object_, right.name, errno.EROFS, "read-only")
    if removed is not None and removed.posture.unmapped and not removed.mount_point:
        yield flat(removed, right.name, errno.EOVERFLOW, "unmapped")
    if names and right in (RIGHT_TO_WRITE, CREATE):
        yield from _of_makers(context, object_, right)
    for flag in limits_on(object_, allow_adding=False):
        yield flat(object_, right.name, errno.EPERM, flag)
    if object_.posture.unmapped:
        yield flat(object_, right.name, errno.EACCES, "unmapped")


def below(object_: Object, needs: str, want: int) -> Iterator[Check]:
    """What the layers under an overlay refuse, with the rights of who mounted it (``ovl_permission``)."""
    for permission, number in object_.refused_below:
        if permission & want:
            yield flat(object_, needs, number, "read-only" if number == errno.EROFS else "layers")


def _of_makers(context: Context, directory: Object, right: Right) -> Iterator[Check]:
    """Who makes a name on an ID-mapped mount must have a number on disk (``may_create``)."""
    mount = directory.mount
    if mount is not None and mount.id_map is not None:
        yield flat(directory, right.name, errno.EOVERFLOW, "maker-unmapped", context.universe.mapped(mount.id_map))


def _device(object_: Object, right: Right) -> Iterator[Check]:
    if object_.posture.kind in _DEVICES and has_option(object_.mount, "nodev"):
        yield flat(object_, right.name, errno.EACCES, "nodev")


def permission(context: Context, object_: Object, right: Right) -> Iterator[Check]:
    """What is asked of the object itself for ``right``: its classes, and what stands behind it."""
    return permissions(context, object_, right.name, right.permissions_on(object_.posture.kind))


def permissions(context: Context, object_: Object, needs: str, want: int) -> Iterator[Check]:
    """What is asked of the object itself for the permissions in ``want``.

    A FUSE mount lets nobody in but who made it, unless others are allowed (``fuse_allow_current_process``); an overlay
    has layers.
    """
    mount = object_.mount
    if mount is not None and mount.lets_in is not None:
        yield flat(object_, needs, errno.EACCES, "fuse", context.universe.only_of(*mount.lets_in))
    yield context.permission(object_, needs, want, errno.EACCES)
    yield from below(object_, needs, want)


_STICKY_AND_OPEN = STICKY | 0o002


def stage_checks(context: Context, route: Route) -> Iterator[Check]:
    """Traverse on each directory before the next name is looked up; on links what following asks."""
    parent: Object | None = None
    for stage in route.stages:
        if stage.object.posture.directory:
            parent = stage.object
            yield from permissions(context, parent, TRAVERSE.name, EXECUTE)
        else:
            yield from _follow(context, stage, parent)


def _follow(context: Context, stage: Stage, parent: Object | None) -> Iterator[Check]:
    link, everyone = stage.object, context.universe.everyone
    if stage.trailing and context.settings.protected_symlinks and parent is not None:
        posture = parent.posture
        same = posture.uid == link.posture.uid != UNMAPPED
        if posture.mode & _STICKY_AND_OPEN == _STICKY_AND_OPEN and not same:
            owner = context.universe.with_uid(link.posture.uid)
            yield flat(link, FOLLOW, errno.EACCES, "protected-symlinks", owner)
    if has_option(link.mount, "nosymfollow"):
        yield flat(link, FOLLOW, errno.ELOOP, "nosymfollow")
    yield flat(link, FOLLOW, errno.EACCES, "symlink", everyone)


_FAILURES = {errno.ENOENT: "missing", errno.ENOTDIR: "not-a-directory", errno.ELOOP: "too-many-links"}


def failure_check(route: Route, needs: str) -> Check:
    """The check that nobody passes, because the route does not arrive."""
    return Check(None, route.failed_at, needs, route.errno, 0, _FAILURES.get(route.errno, "error"))


def create(context: Context, route: Route, right: Right) -> Iterator[Check]:
    """Make the last name of a path that is not there."""
    if route.missing_in is None:
        yield failure_check(route, right.name)
    else:
        yield from _change_names(context, route.missing_in, right)


def create_in(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Make a new name in a directory; anything else is opened for writing, which :func:`create_over` precedes."""
    if object_.posture.directory:
        yield from _change_names(context, object_, CREATE)
    else:
        yield from write(context, route, object_)


def create_over(context: Context, parent: Object | None, named: Object, right: Right) -> Iterator[Check]:
    """fs.protected_regular and fs.protected_fifos: in a sticky directory, what is there is opened only by its owner.

    This is about a program that would make the file if it were not there (O_CREAT).
    """
    if named.posture.directory or parent is None or not parent.posture.mode & STICKY:
        return
    kind, settings = named.posture.kind, context.settings
    level = {Kind.FILE: settings.protected_regular, Kind.FIFO: settings.protected_fifos}.get(kind, 1)
    if not level or named.posture.uid == parent.posture.uid != UNMAPPED:
        return
    if parent.posture.mode & 0o002 or (parent.posture.mode & 0o020 and level >= 2 and kind in (Kind.FILE, Kind.FIFO)):
        owner = context.universe.with_uid(named.posture.uid)
        rule = "protected-fifos" if kind is Kind.FIFO else "protected-regular"
        yield flat(named, right.name, errno.EACCES, rule, owner)


def remove_missing(context: Context, route: Route, right: Right) -> Iterator[Check]:
    """Remove or rename a name that is not there: the mount is asked for before the name is looked up."""
    if route.missing_in is not None and route.missing_in.mount is not None and route.missing_in.mount.read_only:
        yield flat(route.missing_in, right.name, errno.EROFS, "read-only")
    yield failure_check(route, right.name)


def remove(context: Context, parent: Object | None, named: Object, right: Right) -> Iterator[Check]:
    """Remove the name, or give it another one in the same directory.

    A directory must be empty to be removed, which is not asked here.
    """
    if parent is None:
        yield flat(named, right.name, errno.EBUSY, "root-directory")
        return
    yield from _change_names(context, parent, right, named)
    if named.mount_point:
        # What is checked from here on is the directory that the mount covers, which nobody can see.
        yield flat(named, right.name, errno.EBUSY, "mount-point")
        return
    for flag in limits_on(parent, allow_adding=True):
        yield flat(parent, right.name, errno.EPERM, flag)
    if parent.posture.mode & STICKY:
        universe = context.universe
        keepers = universe.with_uid(named.posture.uid) | universe.with_uid(parent.posture.uid)
        keepers |= universe.holders_of(capabilities.FOWNER, named.posture.uid, named.posture.gid)
        yield flat(parent, right.name, errno.EPERM, "sticky", keepers)
    for flag in (*limits_on(named, allow_adding=True), *limits_on(named, allow_adding=False)):
        yield flat(named, right.name, errno.EPERM, flag)
    if right is RENAME:
        yield from _of_makers(context, parent, right)  # the new name is made as any other
        if named.stays:
            yield flat(named, right.name, errno.EXDEV, "lower-layer")


def _change_names(context: Context, directory: Object, right: Right, named: Object | None = None) -> Iterator[Check]:
    """What is asked before a name is made, or that of ``named`` taken away."""
    yield from before_permission_to_write(context, directory, right, names=True, removed=named)
    yield from permissions(context, directory, right.name, right.permissions_on(Kind.DIRECTORY))
