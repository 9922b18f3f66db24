"""What somebody can bring about by their own means: with calls that the rules allow them, one after the other.

Of the present object: whoever owns a directory on the way, or the object, can give themselves what its mode lacks
(chmod(2)); nothing else that ordinary users may do lets them into a directory, or at what an object holds. A group of
their own is of no use to an owner, whose class is looked at before any group's; another name (link(2), rename(2)) is
had only by who reaches the object already, and leads to the same permissions.

Of the name: whoever can take away what has a name on the way (rename(2), sticky, flags and mounts weighed in) can put
something of their own in its place, and below it the rest of the path.
"""

import posixpath
from collections.abc import Callable, Iterator
from typing import NamedTuple

from fiat.core.model.host import Settings
from fiat.core.model.mode import permission_letters
from fiat.core.model.posture import Kind, Object
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import (
    APPEND,
    CHANGE_MODE,
    CREATE,
    DELETE,
    EXECUTE,
    LIST,
    READ,
    RENAME,
    TRAVERSE,
    WRITE,
    Right,
)
from fiat.core.model.route import Route, Stage, lies_under
from fiat.core.rules.access import Access
from fiat.core.rules.attributes import refused_to_everyone
from fiat.core.rules.checks import Check, has_option
from fiat.core.rules.sideeffects import after_mode, with_mode

_OWNERS = 0o700

OF_A_NAME = (READ, WRITE, APPEND, EXECUTE, LIST, TRAVERSE, CHANGE_MODE)
"""Rights that whoever makes an object has, or can give themselves."""


class OwnStep(NamedTuple):
    """One call: ``call`` is its name, ``letters`` what chmod gives ``whom`` (u, the owner; a, all), ``target`` the new
    name of rename."""

    call: str
    path: str
    letters: str = ""
    target: str = ""
    whom: str = "u"


class OwnMeans(NamedTuple):
    """That somebody can get a right by ``steps``: on the present ``object``, or on what is found under the ``name``."""

    of: str
    steps: tuple[OwnStep, ...]


class _Solver:
    """What one principal can bring about on one route."""

    def __init__(self, settings: Settings, who: Principal, route: Route) -> None:
        self.who = who
        self.route = route
        self._access = Access(Universe([who]), settings)

    def ways(self, right: Right) -> list[OwnMeans]:
        """The ways to have ``right``, the shortest first; none where nothing leads there."""
        found = []
        steps = self._on_object(right)
        if steps is not None:
            found.append(OwnMeans("object", tuple(steps)))
        if right in OF_A_NAME and (not found or found[0].steps):
            names = sorted((each for each in self._by_name(right) if each is not None), key=len)
            if names:
                found.append(OwnMeans("name", tuple(names[0])))
        return sorted(found, key=lambda one: (len(one.steps), one.of != "object"))

    # --- the present object ---

    def _on_object(self, right: Right) -> list[OwnStep] | None:
        return self._opened(self.route, lambda route: self._access.checks(route, right))

    def _opened(self, route: Route, checks: Callable[[Route], Iterator[Check]]) -> list[OwnStep] | None:
        """What has to be changed so that all of ``checks`` pass; None where something stays that does not."""
        failing = [check for check in checks(route) if not check.passers]
        if not failing:
            return []
        if any(check.passers == 0 for check in checks(self._as_opened(route))):
            return None
        letters: dict[str, int] = {}
        for check in failing:
            assert check.object is not None
            letters[check.object.path] = letters.get(check.object.path, 0) | check.want
        return [OwnStep("chmod", path, _letters(bits)) for path, bits in letters.items()]

    def _as_opened(self, route: Route) -> Route:
        """The route as it is once everything of their own on it is open to them."""
        return route._replace(
            stages=tuple(stage._replace(object=self._open(stage.object)) for stage in route.stages),
            end=None if route.end is None else self._open(route.end),
            missing_in=None if route.missing_in is None else self._open(route.missing_in),
            interpreter=None if route.interpreter is None else self._as_opened(route.interpreter),
        )

    def _open(self, one: Object) -> Object:
        """The object with all permissions for its owner, where that is who asks and may give them."""
        posture = one.posture
        if posture.uid != self.who.uid or posture.kind is Kind.SYMLINK or posture.mode & _OWNERS == _OWNERS:
            return one
        here = Route(one.path, (), one)
        if not self._access.passing(self._access.object_checks(here, one, CHANGE_MODE)):
            return one
        return one._replace(posture=after_mode(posture, posture.mode | _OWNERS, self.who))

    # --- what is found under the name ---

    def _by_name(self, right: Right) -> Iterator[list[OwnStep] | None]:
        """For each name on the way, how to put something of one's own in its place."""
        route = self.route
        if route.end is None:
            if route.missing_in is not None:
                yield self._making(route, route.missing_in, None, right)
            return
        walked = [*route.stages, Stage(route.end)]
        for number, stage in enumerate(walked):
            named = stage.object
            holder = next(
                (
                    one.object
                    for one in reversed(walked[:number])
                    if one.object.path == posixpath.dirname(named.path) and one.object.posture.directory
                ),
                None,
            )
            if holder is None or named.path == "/":
                continue
            before = route._replace(stages=route.stages[:number], end=named)
            yield self._making(before, holder, named, right)

    def _making(self, before: Route, holder: Object, named: Object | None, right: Right) -> list[OwnStep] | None:
        """How to make something of one's own in ``holder``, in the place of ``named`` (None where nothing is there)."""
        access = self._access

        def checks(route: Route) -> Iterator[Check]:
            yield from access.stage_checks(route)
            if named is None:
                yield from access.object_checks(route, self._of(route, holder), CREATE)
            else:
                yield from access.name_checks(self._of(route, holder), named, RENAME)

        steps = self._opened(before, checks)
        if steps is None:
            return None
        if right is EXECUTE and has_option(holder.mount, "noexec"):
            return None
        top = self.route.asked if named is None else named.path
        # what is asked for by a link's own name is found there, anything else where the way ends
        whole = self.route.asked if named is None or named.posture.kind is Kind.SYMLINK else self._end_path()
        if whole != top and not lies_under(whole, top):
            return None
        made = [top]
        for name in filter(None, whole[len(top) :].split("/")):
            made.append(f"{made[-1]}/{name}")
        if named is not None:
            steps.append(OwnStep("rename", named.path, target=f"{named.path}.away"))
        directory = right in (TRAVERSE, LIST) or (self.route.end is not None and self.route.end.posture.directory)
        for number, path in enumerate(made):
            last = number == len(made) - 1
            kind = Kind.DIRECTORY if directory or not last else Kind.FILE
            steps.append(OwnStep("mkdir" if kind is Kind.DIRECTORY else "create", path))
            needed = right.permissions_on(kind) if last and right.permission else 0
            needed |= 0o3 * (not last) | 0o4 * (right is EXECUTE and last)
            given = 0o7 if holder.posture.default is None else _owners_of_default(holder)
            given &= 0o7 if kind is Kind.DIRECTORY else 0o6
            if needed & ~given:
                steps.append(OwnStep("chmod", path, _letters(needed & ~given)))
        return steps

    def _end_path(self) -> str:
        return self.route.asked if self.route.end is None else self.route.end.path

    @staticmethod
    def _of(route: Route, holder: Object) -> Object:
        """The directory as it is on ``route``, where it may be opened."""
        known = [stage.object for stage in route.stages] + ([route.missing_in] if route.missing_in is not None else [])
        return next((one for one in reversed(known) if one.path == holder.path), holder)


def _letters(bits: int) -> str:
    return permission_letters(bits).replace("-", "")


def _owners_of_default(holder: Object) -> int:
    """What the default list leaves the owner of something new (acl(5))."""
    default = holder.posture.default
    assert default is not None
    return default.entries[0].permissions


def own_means(settings: Settings, who: Principal, route: Route, right: Right) -> list[OwnMeans]:
    """The ways by which ``who`` can bring about that they have ``right`` at the end of ``route``, the shortest first.

    The first has no steps where they have it. Of a superuser, whom modes do not hold up, only that is told.
    """
    return _Solver(settings, who, route).ways(right)


def as_opened(route: Route) -> Route:
    """The route as it is once everybody has opened what is theirs: the owner's class is theirs alone."""

    def opened(one: Object) -> Object:
        posture = one.posture
        if posture.kind is Kind.SYMLINK or posture.unmapped or refused_to_everyone(posture, one.mount)[0]:
            return one
        acl = None if posture.acl is None else with_mode(posture.acl, posture.mode | _OWNERS)
        return one._replace(posture=posture._replace(mode=posture.mode | _OWNERS, acl=acl))

    return route._replace(
        stages=tuple(stage._replace(object=opened(stage.object)) for stage in route.stages),
        end=None if route.end is None else opened(route.end),
    )


class Hold(NamedTuple):
    """By which ``object`` on the way ``people`` can bring about what is at its end, having opened what is theirs.

    They ``own`` it, ``write`` to it or ``add`` names in it; or they ``replace`` it, or ``make`` it in it where nothing
    is there.
    """

    object: Object
    people: int
    how: str


def holds(access: Access, route: Route) -> list[Hold]:
    """Every hold that there is on what is at the end of ``route``, in the order in which they are walked."""
    opened = as_opened(route)
    universe = access.universe
    found: list[Hold] = []
    walked = [(stage.object, as_it_is.object) for stage, as_it_is in zip(opened.stages, route.stages, strict=True)]
    if opened.end is not None and route.end is not None:
        walked.append((opened.end, route.end))
    for number, (one, as_it_is) in enumerate(walked):
        here = opened._replace(stages=opened.stages[:number], end=one)
        if one.posture.kind is not Kind.SYMLINK:
            owners = universe.with_uid(one.posture.uid) & access.allowed(here, CHANGE_MODE)
            found.append(Hold(as_it_is, owners, "own"))
        if one.path != "/":
            taking = access.allowed(here, RENAME) | access.allowed(here, DELETE)
            found.append(Hold(as_it_is, taking, "replace"))
    if opened.end is None:
        if opened.missing_in is not None and route.missing_in is not None:
            found.append(Hold(route.missing_in, access.allowed(opened, CREATE), "make"))
    elif route.end is not None:
        how = ("add", CREATE) if opened.end.posture.directory else ("write", WRITE)
        found.append(Hold(route.end, access.allowed(opened, how[1]), how[0]))
    return [one for one in found if one.people]
