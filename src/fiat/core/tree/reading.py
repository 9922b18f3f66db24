"""Reading a whole tree: the one walk that everything about trees stands on."""

import errno
import os
from collections.abc import Callable, Iterable, Iterator
from typing import Protocol, runtime_checkable

import numpy as np

from fiat.core.errors import OtherNow, PathError
from fiat.core.model.host import Host, Node, Progress, no_progress
from fiat.core.model.posture import Identity, Object
from fiat.core.model.route import Route
from fiat.core.tree.asif import FewPostures, NodeAsIf, Supposition
from fiat.core.tree.assembly import Assembly, Batch
from fiat.core.tree.postures import PosturesOfMany, postures_of_many
from fiat.core.tree.profile import profile_of
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent, inside, names_in, open_end


def other_now(path: str) -> PathError:
    """The problem with what is at ``path`` now, and was not there when it was first looked at."""
    return OtherNow(path, "change", "another object is there now, and is left alone")


def end_without_links(route: Route, identity: Identity | None = None) -> Object:
    """The end of a route to a path that was real, and to the object ``identity`` where that is given.

    Raises :class:`PathError` where the route leads nowhere, follows a link, or ends at another object.
    """
    if route.end is None:
        raise PathError(route.asked, route.errno)
    if route.links or (identity is not None and not route.end.status.identity.same_as(identity)):
        raise other_now(route.asked)
    return route.end


class Walked:
    """Which object was at each path when it was first walked."""

    def __init__(self, routes: Iterable[Route] = ()) -> None:
        self._known: dict[str, Identity] = {}
        for route in routes:
            self.add(route)

    def add(self, route: Route) -> None:
        """Have what is on ``route`` meant as well. Raises :class:`PathError` where a path has another object now."""
        for found in route.objects:
            known = self._known.setdefault(found.path, found.status.identity)
            if not known.same_as(found.status.identity):
                raise other_now(found.path)

    def expect(self, found: Object) -> None:
        """Raise :class:`PathError` unless ``found`` is what was at its path at first."""
        known = self._known.get(found.path)
        if known is None or not known.same_as(found.status.identity):
            raise other_now(found.path)


@runtime_checkable
class ReadsTrees(Protocol):
    """A node that reads the tree under it faster than object by object."""

    def survey(self, extent: Extent, progress: Progress) -> Survey:
        """All that is at and under this object; what cannot be looked at is among its troubles.

        A KeyboardInterrupt ends it early: what was read until then comes
        back, as not complete.
        """


def survey_of(node: Node, extent: Extent = Extent(), progress: Progress = no_progress) -> Survey:  # noqa: B008
    """All that is at and under the object that ``node`` holds."""
    if isinstance(node, NodeAsIf) and not node.supposition.names:
        return _as_if(survey_of(node.beneath, extent, progress), node.supposition)
    if isinstance(node, ReadsTrees):
        return node.survey(extent, progress)
    return _object_by_object(node, extent, progress)


def _as_if(survey: Survey, supposition: Supposition) -> Survey:
    """The tree of the host beneath, with the postures and mounts that are supposed."""
    postures, mounts = supposition.postures, supposition.mounts
    if isinstance(postures, FewPostures):
        postures = postures_of_many(postures.postures)
    if isinstance(postures, PosturesOfMany):
        survey = postures.on(survey)
    if mounts:
        profiles = [
            one if one.mount is None else one._replace(mount=mounts.get(one.mount.point, one.mount))
            for one in survey.profiles
        ]
        survey = survey.with_profiles(profiles, survey.profile)
    return survey


def survey_at(
    host: Host,
    path: str,
    extent: Extent = Extent(),  # noqa: B008
    progress: Progress = no_progress,
    *,
    follow: bool = True,
) -> tuple[Route, Survey]:
    """The route to ``path``, and the survey of what it leads to; :class:`PathError` where it leads nowhere."""
    route, node = open_end(host, path, follow=follow)
    if node is None:
        raise PathError(route.asked, route.errno)
    try:
        return route, survey_of(node, extent, progress)
    finally:
        node.close()


def surveys_at(
    host: Host,
    paths: Iterable[str],
    extent: Extent,
    problem: Callable[[PathError], None],
    progress: Progress = no_progress,
) -> Iterator[tuple[Route, Survey]]:
    """The route to each of ``paths`` with the survey there; one that leads nowhere is a ``problem``.

    Where reading was stopped, what was read until then is the last.
    """
    for path in paths:
        if not path:  # not the current directory: a variable of a script that was never set
            problem(PathError(path, errno.ENOENT))
            continue
        try:
            found = survey_at(host, path, extent, progress)
        except PathError as error:
            problem(error)
            continue
        yield found
        if not found[1].complete:
            return


def _object_by_object(top: Node, extent: Extent, progress: Progress) -> Survey:
    """The walk for hosts that hold their objects one by one."""
    found = top.look(exact=True)
    assembly = Assembly(found)
    waiting: list[tuple[int, Node, Object]] = [(0, top, found)] if found.posture.directory else []
    while waiting:
        entry, node, directory = waiting.pop()
        objects, nodes = _inside(node, assembly)
        if node is not top:
            node.close()
        first = assembly.add(_batch(objects, assembly), [entry])
        for place, (child, one) in enumerate(zip(nodes, objects, strict=True), first):
            wanted = one.posture.directory and not extent.one_level
            if wanted and not extent.across_mounts and one.mount != directory.mount:
                assembly.skipped.append(one.path)
            elif wanted:
                waiting.append((place, child, one))
                continue
            child.close()
        progress(assembly.entries, directory.path)
        if extent.entry_limit is not None and assembly.entries >= extent.entry_limit and waiting:
            assembly.complete, assembly.bounded = False, True
            break
    for _, node, _ in waiting:
        if node is not top:
            node.close()
    return assembly.survey()


def _inside(node: Node, assembly: Assembly) -> tuple[list[Object], list[Node]]:
    """What is in a directory, names sorted by their bytes, held open."""
    names = sorted(names_in(node, assembly.troubles), key=os.fsencode)
    found = list(inside(node, names, assembly.troubles))
    return [one for _, one in found], [child for child, _ in found]


def _batch(objects: list[Object], assembly: Assembly) -> Batch:
    names = [os.fsencode(one.path.rpartition("/")[2]) for one in objects]
    status = [one.status for one in objects]
    return Batch(
        profile=np.array([assembly.number(profile_of(one)) for one in objects], np.int32),
        inode=np.array([one.identity.inode for one in status], np.uint64),
        links=np.array([one.links for one in status], np.uint32),
        birth=np.array([one.identity.birth for one in status], np.int64),
        name_lengths=np.array([len(name) for name in names], np.uint16),
        names=b"".join(names),
        directories=np.array([-1], np.int32),
        counts=np.array([len(objects)], np.int32),
        size=np.array([one.size for one in status], np.int64),
        changed=np.array([one.changed or 0 for one in status], np.int64),
        modified=np.array([one.modified or 0 for one in status], np.int64),
        targets=tuple((place, os.fsencode(one.target)) for place, one in enumerate(objects) if one.target is not None),
    )
