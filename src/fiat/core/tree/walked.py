"""The objects that were walked to some paths at first: only these are meant, whatever comes in their place later.

A question may walk the same path many times. On a tree that hostile users write to, each walk may lead
somewhere else; what is to be changed must be what the first one came to.
"""

import errno
from collections.abc import Iterable

from fiat.core.errors import PathError
from fiat.core.model.identity import Identity
from fiat.core.model.posture import Object
from fiat.core.model.route import Route


def other_now(path: str) -> PathError:
    """The problem with what is at ``path`` now, and was not there when it was first looked at."""
    return PathError(path, errno.EBUSY, "change", "another object is there now, and is left alone")


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
