"""What Fiat does not evaluate, said where it applies."""

import os
from typing import NamedTuple

from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Settings
from fiat.core.model.posture import Mount, Object
from fiat.core.model.principals import Principal
from fiat.core.model.process import Difference
from fiat.core.text import visible
from fiat.core.tree.route import Route
from fiat.core.words import naming

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
    """What holds for the whole host: active security modules, and being in a user namespace."""
    found = []
    if settings.security_modules:
        modules = ", ".join(map(visible, settings.security_modules))
        text = f"a security module is active ({modules}) and may refuse what is allowed here"
        found.append(Caveat("security-module", text))
    if settings.user_namespace:
        text = "Fiat runs in a user namespace: users outside it have other numbers, and its root is not the host's"
        found.append(Caveat("user-namespace", text))
    return found


def of_object(object_: Object) -> list[Caveat]:
    """What holds for one object: its mount, and what could not be read of it."""
    found = []
    for what, number in object_.unknown:
        text = f"the {what} of {visible(object_.path)} could not be read ({os.strerror(number)})"
        found.append(Caveat("unknown", f"{text}: what it may forbid is not counted"))
    if object_.label is not None:
        found.append(Caveat("security-label", "objects here carry security labels: a security module may still say no"))
    mount = object_.mount
    if mount is not None:
        found += _of_mount(mount)
    return found


def _of_mount(mount: Mount) -> list[Caveat]:
    point, kind = visible(mount.point), visible(mount.type)
    found = []
    if mount.type in _REMOTE:
        lists = ", which may keep NFSv4 lists that Fiat does not read" if mount.type.startswith("nfs") else ""
        found.append(Caveat("remote", f"{point} is a {kind} mount: its server decides in the end{lists}"))
    elif mount.type.startswith("fuse"):
        found.append(Caveat("fuse", f"{point} is a {kind} mount: {_fuse(mount)}"))
    elif mount.type == "proc":
        text = f"{point} is the kernel's own: settings and processes there refuse more than their modes say, root too"
        found.append(Caveat("kernels-own", text))
    elif mount.type == "overlay":
        text = f"{point} is an overlay: the layers under it are asked too, with the rights of who mounted it"
        found.append(Caveat("overlay", text))
    if "idmapped" in mount.options:
        found.append(Caveat("id-mapped", f"{point} is an ID-mapped mount: numbers on disk mean other users here"))
    return found


def _fuse(mount: Mount) -> str:
    """Who is let in, and who decides (fuse(8) mount options, as mountinfo shows them)."""
    options = mount.filesystem_options
    mounter = next((option.removeprefix("user_id=") for option in options if option.startswith("user_id=")), "unknown")
    others = "others are let in" if "allow_other" in options else "nobody else is let in, not even root"
    decides = "the kernel checks the mode" if "default_permissions" in options else "the process behind it decides"
    return f"user number {visible(mounter)} made it, {others}, and {decides}"


def of_route(route: Route) -> list[Caveat]:
    """What holds for anything walked on ``route``, and at its end."""
    return [caveat for object_ in route.objects for caveat in of_object(object_)]


def of_process(process: Principal, found: Difference, accounts: Accounts) -> list[Caveat]:
    """Where a running process is not what its user's account says."""
    whose = f"process {process.pid}"
    caveats = []
    if process.namespace:
        text = (
            f"{whose} is in another user namespace ({visible(process.namespace)}): its capabilities do not count here"
        )
        caveats.append(Caveat("user-namespace", text))
    if found.missing:
        groups = naming.joined(naming.group(gid, accounts) for gid in found.missing)
        text = f"{whose} is not in {groups}, though its user's account is: what it was given at its start counts"
        caveats.append(Caveat("process-lacks-groups", f"{text}; start it again to give it these"))
    if found.extra:
        groups = naming.joined(naming.group(gid, accounts) for gid in found.extra)
        caveats.append(Caveat("process-has-groups", f"{whose} is in {groups}, though its user's account is not"))
    if found.holds:
        powers = naming.joined(f"CAP_{name.upper()}" for name in capabilities.names(found.holds))
        caveats.append(Caveat("process-holds-capabilities", f"{whose} holds {powers}, which its user alone would not"))
    if found.lacks:
        powers = naming.joined(f"CAP_{name.upper()}" for name in capabilities.names(found.lacks))
        caveats.append(Caveat("process-lacks-capabilities", f"{whose} runs as number 0 but has given up {powers}"))
    return caveats


def of_mounts_left_out(points: list[str]) -> list[Caveat]:
    """Mounts under a tree that were not entered."""
    if not points:
        return []
    text = f"other file systems are mounted at {_several(points)}; --across-mounts enters them"
    return [Caveat("mounts-left-out", text)]


def of_mounts_not_counted(points: list[str]) -> list[Caveat]:
    """Mounts under a directory that changes, in which nobody was counted."""
    if not points:
        return []
    return [Caveat("mounts-not-counted", f"gains and losses leave out what is mounted at {_several(points)}")]


def _several(points: list[str]) -> str:
    more = f" and {len(points) - 4} more" if len(points) > 4 else ""
    return ", ".join(visible(point) for point in points[:4]) + more


def of_stopping(path: str, entries: int) -> list[Caveat]:
    """A tree of which only a part was read."""
    text = f"only {entries:,} entries under {visible(path)} were read before it was stopped: there are more"
    return [Caveat("stopped", text)]
