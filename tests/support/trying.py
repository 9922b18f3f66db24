"""How a right is tried so that nothing has to be put right after."""

from fiat.core.model.right import CREATE, DELETE, RENAME, WRITE, Right
from fiat.core.tree.walk import route_for, walk
from fiat.host.live.host import LiveHost


def how_to_try(right: Right, host: LiveHost, path: str, *, changes: bool) -> str | None:
    """How the right is tried; None where it is not, or where that could not be put right."""
    route = route_for(host, path, right)
    link = walk(host, path.rstrip("/"), follow=False).end
    directory = route.end is not None and route.end.posture.directory
    if right is WRITE or right is CREATE:
        if link is not None and link.target is not None:
            return None if right is CREATE else right.name if not directory else "write in"
        if route.end is not None and directory:
            # what is made in an append-only directory stays
            return None if right is CREATE and "append-only" in (route.end.posture.flags or ()) else "write in"
        return "create over" if right is CREATE and route.end is not None else None if right is CREATE else right.name
    if right is DELETE or right is RENAME:
        if path.endswith("/") or link is None:
            return None
        if right is RENAME:
            return "rename and back"
        return None if link.posture.directory else "delete by the wrong call"
    return right.name if changes or not right.name.startswith("change-") else None
