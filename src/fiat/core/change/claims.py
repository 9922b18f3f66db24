"""What a run may change, told so that two runs find out whether they would meet."""

import posixpath
from collections.abc import Iterable

from fiat.core.change.history import Claim
from fiat.core.model.host import Host
from fiat.core.tree.walk import Handles

_MANY = 64
"""So many tops are claimed one by one; of more, the directory that holds all of them."""


def claims(host: Host, paths: Iterable[str]) -> list[Claim]:
    """The claims of a run that changes what is at and under the absolute ``paths``; what is not there is left out."""
    handles = Handles(host)
    try:
        return [claim for path in _tops(paths) if (claim := _claim(handles, path)) is not None]
    finally:
        handles.close()


def _tops(paths: Iterable[str]) -> list[str]:
    """The paths that are under none of the others."""
    every = set(paths)
    # what is in a directory that is one of them, as most is, is told at once
    others = [path for path in every if path.rpartition("/")[0] not in every]
    found = [path for path in others if path == "/" or not _is_under(path, every)]
    return sorted(found) if len(found) <= _MANY else [posixpath.commonpath(found)]


def _is_under(path: str, others: set[str]) -> bool:
    """Whether one of ``others`` is on the way to ``path``: the nearest is, most often."""
    while path != "/":
        path = path.rpartition("/")[0] or "/"
        if path in others:
            return True
    return False


def _claim(handles: Handles, path: str) -> Claim | None:
    way = [path]
    while way[-1] != "/":
        way.append(posixpath.dirname(way[-1]))
    identities = []
    for one in reversed(way):
        try:
            node = handles.open(one)
            try:
                identities.append(node.glance().identity)
            finally:
                node.close()
        except OSError:
            return None
    return Claim(identities[-1], tuple(identities[:-1]))
