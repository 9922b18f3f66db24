"""Rules along a route: who may do what, and which check decided.

A right on a path comes down to *checks* in the kernel's order, each with the
set of principals that pass it. The first check that a principal fails
decides, with its errno. Asking about everyone is the intersection; asking
why is the same checks for a universe of one.

Order and errors are those of the kernel's path walk (``link_path_walk``,
``may_follow_link``, ``may_open``, ``inode_permission``, ``may_create``) and
``fs/open.c``; see also open(2), execve(2), mount(2), ioctl_iflags(2).
"""

import errno
from collections.abc import Callable, Iterator
from typing import NamedTuple

from fiat.core.host import Settings
from fiat.core.mode import EXECUTE, READ, STICKY, WRITE
from fiat.core.posture import Kind, Mount, Object
from fiat.core.principals import Universe
from fiat.core.route import Route, Stage
from fiat.core.rules import Decisions, Reason

RIGHTS = ("read", "write", "execute", "traverse")
"""The rights of an object, in the order in which they are shown."""

FOLLOW = "follow"
"""What following a symlink asks of the symlink."""

_SPECIAL_FILES = (Kind.FIFO, Kind.SOCKET, Kind.BLOCK, Kind.CHARACTER)


def applies(right: str, kind: Kind) -> bool:
    """Whether ``right`` means something on an object of this kind."""
    if right == "execute":
        return kind is Kind.FILE
    if right == "traverse":
        return kind is Kind.DIRECTORY
    return True


def permissions_for(right: str, kind: Kind) -> int:
    """The permissions that one entry must hold together for ``right``.

    A write to a directory adds and removes names, which takes write and
    traverse at once.
    """
    if right == "write" and kind is Kind.DIRECTORY:
        return WRITE | EXECUTE
    return {"read": READ, "write": WRITE, "execute": EXECUTE, "traverse": EXECUTE}[right]


class Check(NamedTuple):
    """One thing the kernel checks on the way to a right.

    ``needs`` is a right, or ``follow``. ``passers`` is the set of principals
    that pass. ``rule`` names what decides for everyone alike; where it is
    empty, the classes of the object decide and ``reason`` tells how.
    ``script`` is the script for whose sake an interpreter is walked to and
    run, and the script itself read; else empty.
    """

    object: Object
    needs: str
    errno: int
    passers: int
    rule: str = ""
    reason: Callable[[int], Reason] | None = None
    script: str = ""


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
    script: str = ""


class Verdict(NamedTuple):
    """The answer for one principal, one right, one path.

    ``steps`` go up to the blocker, ``beyond`` holds the checks after it,
    which the kernel never comes to.
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


class Access:
    """Access along routes for one universe under one host's settings."""

    def __init__(self, universe: Universe, settings: Settings) -> None:
        self.universe = universe
        self.settings = settings
        self.decisions = Decisions(universe)

    def allowed(self, route: Route, right: str) -> int:
        """The set of principals that have ``right`` at the end of ``route``.

        Nobody has any right where the route does not arrive.
        """
        if route.end is None:
            return 0
        found = self.reach(route)
        for check in self.end_checks(route, right):
            found &= check.passers
        return found

    def reach(self, route: Route) -> int:
        """The set of principals that can walk all of ``route``."""
        found = self.universe.everyone
        for check in self.stage_checks(route):
            found &= check.passers
        return found

    def verdict(self, route: Route, right: str, place: int) -> Verdict:
        """The answer for the principal at ``place`` of the universe, step by step."""
        steps = [self._step(check, place) for check in self.stage_checks(route)]
        if route.end is None:
            rule = {errno.ENOENT: "missing", errno.ENOTDIR: "not-a-directory", errno.ELOOP: "too-many-links"}
            steps.append(Step(None, route.failed_at, right, False, rule.get(route.errno, "error"), route.errno))
        else:
            steps += [self._step(check, place) for check in self.end_checks(route, right)]
        for number, step in enumerate(steps):
            if not step.allowed:
                return Verdict(False, step.errno, step, tuple(steps[: number + 1]), tuple(steps[number + 1 :]))
        return Verdict(True, 0, None, tuple(steps), ())

    def _step(self, check: Check, place: int) -> Step:
        allowed = bool(check.passers >> place & 1)
        reason = check.reason(place) if check.reason else None
        rule = reason.rule if reason else check.rule
        number = 0 if allowed else check.errno
        return Step(check.object, check.object.path, check.needs, allowed, rule, number, reason, check.script)

    # --- the route ---

    def stage_checks(self, route: Route) -> Iterator[Check]:
        """What is checked on the way: traverse on directories, and on links what following asks."""
        parent: Object | None = None
        for stage in route.stages:
            if stage.object.posture.directory:
                parent = stage.object
                yield self._permission(stage.object, "traverse", EXECUTE)
            else:
                yield self._follow(stage, parent)

    def _follow(self, stage: Stage, parent: Object | None) -> Check:
        link = stage.object
        if stage.trailing and self.settings.protected_symlinks and parent is not None:
            # may_follow_link: only in sticky directories that everyone may write to
            posture = parent.posture
            risky = posture.mode & (STICKY | 0o002) == STICKY | 0o002 and posture.uid != link.posture.uid
            if risky:
                owner = self.universe.with_uid(link.posture.uid)
                return Check(link, FOLLOW, errno.EACCES, owner, "protected-symlinks")
        if _has(link.mount, "nosymfollow"):
            return Check(link, FOLLOW, errno.ELOOP, 0, "nosymfollow")
        return Check(link, FOLLOW, errno.EACCES, self.universe.everyone, "symlink")

    # --- the end ---

    def end_checks(self, route: Route, right: str) -> Iterator[Check]:
        """What is checked at the end of ``route`` for ``right``, in the kernel's order."""
        object_ = route.end
        assert object_ is not None
        kind = object_.posture.kind
        want = permissions_for(right, kind)
        if right == "write":
            yield from self._before_writing(object_)
        if kind in (Kind.BLOCK, Kind.CHARACTER) and right in ("read", "write") and _has(object_.mount, "nodev"):
            yield Check(object_, right, errno.EACCES, 0, "nodev")
        if right == "execute":
            if not applies(right, kind):
                yield Check(object_, right, errno.EACCES, 0, "not-a-program")
                return
            if _has(object_.mount, "noexec"):
                yield Check(object_, right, errno.EACCES, 0, "noexec")
        if right == "traverse" and kind is not Kind.DIRECTORY:
            yield Check(object_, right, errno.ENOTDIR, 0, "not-a-directory")
            return
        yield self._permission(object_, right, want)
        if right == "write":
            yield from self._after_permission_to_write(object_)
        if right == "execute" and route.interpreter is not None:
            yield from self._script(object_, route.interpreter)

    def _before_writing(self, object_: Object) -> Iterator[Check]:
        posture = object_.posture
        # sb_permission, and for directories mnt_want_write, which is asked before the permission bits
        read_only = _file_system_has(object_.mount, "ro") or (posture.directory and _has(object_.mount, "ro"))
        if read_only and posture.kind not in _SPECIAL_FILES:
            yield Check(object_, "write", errno.EROFS, 0, "read-only")
        if posture.flags and "immutable" in posture.flags:
            yield Check(object_, "write", errno.EPERM, 0, "immutable")

    def _after_permission_to_write(self, object_: Object) -> Iterator[Check]:
        posture = object_.posture
        if posture.flags and "append-only" in posture.flags and posture.kind in (Kind.FILE, Kind.DIRECTORY):
            yield Check(object_, "write", errno.EPERM, 0, "append-only")
        if not posture.directory and posture.kind not in _SPECIAL_FILES and _has(object_.mount, "ro"):
            yield Check(object_, "write", errno.EROFS, 0, "read-only")

    def _script(self, script: Object, interpreter: Route) -> Iterator[Check]:
        """A script runs when its interpreter can be run, and can then read the script."""
        for check in self.stage_checks(interpreter):
            yield check._replace(script=script.path)
        if interpreter.end is None:
            yield Check(script, "execute", interpreter.errno, 0, "interpreter-missing", script=script.path)
            return
        for check in self.end_checks(interpreter, "execute"):
            yield check._replace(script=script.path)
        yield self._permission(script, "read", READ)._replace(script=script.path)

    def _permission(self, object_: Object, needs: str, want: int) -> Check:
        decision = self.decisions.of(object_.posture)
        return Check(
            object_,
            needs,
            errno.EACCES,
            decision.allowed(want),
            reason=lambda place: decision.reason(place, want),
        )


def _has(mount: Mount | None, option: str) -> bool:
    return mount is not None and option in mount.options


def _file_system_has(mount: Mount | None, option: str) -> bool:
    return mount is not None and option in mount.filesystem_options
