"""What Fiat does not evaluate, said where it applies."""

from typing import NamedTuple

from fiat.core.host import Settings
from fiat.core.posture import Object
from fiat.core.route import Route
from fiat.core.visible import visible

_REMOTE = frozenset(
    ["nfs", "nfs4", "cifs", "smb3", "smbfs", "ceph", "afs", "9p", "glusterfs", "lustre", "gfs2", "ocfs2", "coda"]
)


class Caveat(NamedTuple):
    """Something that may say no, or yes, beyond what Fiat evaluates.

    ``code`` is stable and one word; ``text`` says it.
    """

    code: str
    text: str


def of_host(settings: Settings) -> list[Caveat]:
    """What holds for the whole host: active security modules."""
    if not settings.security_modules:
        return []
    modules = ", ".join(map(visible, settings.security_modules))
    return [Caveat("security-module", f"a security module is active ({modules}) and may refuse what is allowed here")]


def of_object(object_: Object) -> list[Caveat]:
    """What holds for one object: its mount, and what could not be read of it."""
    found = []
    if object_.label is not None:
        found.append(Caveat("security-label", "objects here carry security labels: a security module may still say no"))
    mount = object_.mount
    if mount is not None:
        if mount.type in _REMOTE:
            found.append(
                Caveat("remote", f"{visible(mount.point)} is a {mount.type} mount: its server decides in the end")
            )
        elif mount.type.startswith("fuse"):
            found.append(
                Caveat("fuse", f"{visible(mount.point)} is a {mount.type} mount: another process decides in the end")
            )
        if "idmapped" in mount.options:
            found.append(
                Caveat(
                    "id-mapped", f"{visible(mount.point)} is an ID-mapped mount: numbers on disk mean other users here"
                )
            )
    return found


def of_route(route: Route) -> list[Caveat]:
    """What holds for anything walked on ``route``, and at its end."""
    objects = [stage.object for stage in route.stages] + ([route.end] if route.end else [])
    return [caveat for object_ in objects for caveat in of_object(object_)]


def of_mounts_left_out(points: list[str]) -> list[Caveat]:
    """Mounts under a tree that were not entered."""
    if not points:
        return []
    named = ", ".join(visible(point) for point in points[:4])
    more = f" and {len(points) - 4} more" if len(points) > 4 else ""
    return [Caveat("mounts-left-out", f"other file systems are mounted at {named}{more}; --across-mounts enters them")]
