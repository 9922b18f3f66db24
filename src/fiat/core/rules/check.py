"""One thing the kernel checks, one step of a verdict, and the verdict."""

from collections.abc import Callable
from typing import NamedTuple

from fiat.core.model.host import Settings
from fiat.core.model.mount import Mount
from fiat.core.model.posture import Object
from fiat.core.model.principals import Universe
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
        """The same for the programs that the principals run; this very context where that makes no difference."""
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


def has_flag(object_: Object, flag: str) -> bool:
    """Whether the inode has ``flag``; a flag that could not be read is taken for clear."""
    return flag in (object_.posture.flags or ())
