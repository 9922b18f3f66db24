"""What Fiat does not evaluate, said where it applies."""

import os
from collections.abc import Hashable, Iterator, Sequence
from typing import TYPE_CHECKING

from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts
from fiat.core.model.finding import Finding
from fiat.core.model.host import Settings
from fiat.core.model.idmap import OVERFLOW
from fiat.core.model.posture import Format, Mount, Object
from fiat.core.model.principals import Limits, Principal, Ranges
from fiat.core.model.route import Route
from fiat.core.model.view import View
from fiat.core.text import joined, quoted, visible
from fiat.core.words import naming

if TYPE_CHECKING:
    from fiat.core.model.process import ProcessDifference


_REMOTE = frozenset(
    ["nfs", "nfs4", "cifs", "smb3", "smbfs", "ceph", "afs", "9p", "glusterfs", "lustre", "gfs2", "ocfs2", "coda"]
)


def of_host(settings: Settings) -> list[Finding]:
    """What holds for the whole host: security modules, a user namespace, a file that is cut short."""
    found = []
    if settings.cut_short:
        text = "the snapshot is cut short: what it lacks may have been there, and nothing is known of that"
        found.append(Finding("cut-short", "odd", text))
    if settings.security_modules:
        modules = ", ".join(map(visible, settings.security_modules))
        text = f"a security module is active ({modules}) and may refuse what is allowed here"
        found.append(Finding("security-module", "plain", text))
    if settings.user_namespace:
        text = "Fiat runs in a user namespace: numbers are those of it, and its root has no power over what is outside"
        more = f"where it has a user {OVERFLOW}, what belongs to others looks like theirs"
        found.append(Finding("user-namespace", "plain", f"{text}; {more}"))
    return found


def of_view(view: View | None) -> list[Finding]:
    """That a container is asked about, and how far the powers of its root go."""
    if view is None:
        return []
    text = f"this is how {visible(view.process)} and its container see it: paths, names and numbers are theirs"
    found = [Finding("as-seen-by", "odd", f"{text}, and others on the host may come to the same by other paths")]
    lacks = [f"CAP_{name.upper()}" for name in capabilities.names(capabilities.ABOUT_FILES & ~view.powers)]
    if view.numbers is not None:
        root = "nobody there is root" if view.root is None else f"its root is number {view.root} here"
        whose = _ranges(tuple((here, count) for _, here, count in view.numbers.users.extents))
        text = f"{root}, with powers over what belongs to {whose}"
        found.append(Finding("container-root", "odd", text + (f", and without {joined(lacks)}" if lacks else "")))
    elif lacks:
        found.append(Finding("container-root", "odd", f"its root is that of the host, but without {joined(lacks)}"))
    return found


def of_accounts(accounts: Accounts) -> list[Finding]:
    """What the sources of accounts did not tell."""
    found = []
    unlisted: dict[str, list[str]] = {}
    for one in accounts.unknown:
        if one.kind == "unlisted":
            unlisted.setdefault(one.source, []).append(one.what.removeprefix("all of its "))
    for one in accounts.unknown:
        if one.kind == "failed":
            text = f"the source {visible(one.source)} of accounts {one.why}; not known: {one.what}"
            more = "who is known only to it is missing here, and ? is what a group not known would decide"
            found.append(Finding("accounts-unknown", "odd", f"{text}. {more.capitalize()}"))
        elif one.kind == "left-out":
            text = f"the source {visible(one.source)} of accounts has {one.what}: {one.why}"
            found.append(Finding("accounts-left-out", "odd", text))
        elif one.kind == "by-lists":
            text = (
                f"memberships are those that the groups of the source {visible(one.source)} of accounts list: {one.why}"
            )
            found.append(Finding("memberships-by-lists", "plain", text))
        elif one.source in unlisted:
            text = f"the source {visible(one.source)} of accounts lists no {' and no '.join(unlisted.pop(one.source))}"
            more = "those that only it knows are here where a path, or a group that counts on it, leads to them"
            found.append(Finding("accounts-not-listed", "plain", f"{text}: {more}"))
    return found


def of_object(object_: Object) -> list[Finding]:
    """What holds for one object: its mount, and what could not be read of it."""
    found = []
    for what, number in object_.unknown:
        text = f"the {what} of {visible(object_.path)} could not be read ({os.strerror(number)})"
        found.append(Finding("unknown", "plain", f"{text}: what it may forbid is not counted"))
    if object_.label is not None:
        found.append(
            Finding("security-label", "plain", "objects here carry security labels: a security module may still say no")
        )
    mount = object_.mount
    if mount is not None:
        found += _of_mount(object_, mount)
    return found


def kind_of(object_: Object) -> Hashable:
    """What decides which caveats :func:`of_object` finds: where it is the same, they say the same."""
    unsettled = object_.posture.directory and object_.layer is None
    return object_.mount, object_.label is None, object_.unknown, unsettled, bool(object_.refused_below)


def _of_overlay(object_: Object, mount: Mount, point: str) -> Iterator[Finding]:
    """What of an overlay is not to be told, or holds for one that not all-powerful root has mounted."""
    if object_.posture.directory and object_.layer is None and not mount.moves_directories:
        text = f"{point} is an overlay whose layers cannot be looked into from here"
        yield Finding("overlay", "plain", f"{text}: directories that come from a lower one cannot be renamed (EXDEV)")
    if object_.refused_below:
        text = f"who mounted the overlay {point} may not do everything in its layers"
        more = "what needs a copy in the upper one may fail in other ways too"
        yield Finding("overlay-limited", "odd", f"{text}: {more}")


def _of_mount(object_: Object, mount: Mount) -> list[Finding]:
    point, kind = visible(mount.point), visible(mount.type)
    found = []
    if mount.type in _REMOTE:
        lists = ", which may keep NFSv4 lists that Fiat does not read" if mount.type.startswith("nfs") else ""
        found.append(Finding("remote", "plain", f"{point} is a {kind} mount: its server decides in the end{lists}"))
    elif mount.type.startswith("fuse"):
        found.append(Finding("fuse", "plain", f"{point} is a {kind} mount: {_fuse(mount, object_)}"))
    elif mount.type == "proc":
        text = f"{point} is the kernel's own: settings and processes there refuse more than their modes say, root too"
        found.append(Finding("kernels-own", "plain", text))
    elif mount.type == "overlay":
        found += _of_overlay(object_, mount, point)
    if "idmapped" in mount.options:
        found += _of_numbers(mount, f"{point} is an ID-mapped mount")
    return found


def _of_numbers(mount: Mount, what: str) -> Iterator[Finding]:
    """What of an ID-mapped mount cannot be told: its map, or who has the number that is shown for what has none."""
    numbers = mount.id_map
    if numbers is None:
        text = f"{what}, and this kernel does not say which numbers on disk are which here (Linux 6.15 and later do)"
        yield Finding("id-mapped", "plain", f"{text}: what belongs to {OVERFLOW} may have no owner that counts")
    elif numbers.users.inward(OVERFLOW) is not None or numbers.groups.inward(OVERFLOW) is not None:
        text = f"{what} with a number {OVERFLOW}, which is also shown for what has no number"
        yield Finding("id-mapped", "plain", f"{text}: all of it counts as what belongs to {OVERFLOW}")


def _fuse(mount: Mount, object_: Object) -> str:
    """Who is let in, and who decides (fuse(8) mount options, as mountinfo shows them)."""
    options = mount.filesystem_options
    mounter = next((option.removeprefix("user_id=") for option in options if option.startswith("user_id=")), "unknown")
    others = "others are let in" if "allow_other" in options else "nobody else is let in, not even root"
    decides = "the process behind it decides"
    if "default_permissions" in options:
        decides = "the kernel checks the mode; the process behind it may refuse all the same"
        if object_.posture.acl is not None:
            decides += ", and it alone knows whether the kernel asks the list"
    return f"user number {visible(mounter)} made it, {others}, and {decides}"


def of_route(route: Route) -> list[Finding]:
    """What holds for anything walked on ``route``, at its end, and for what that is run with."""
    found = [caveat for object_ in route.objects for caveat in of_object(object_)]
    if route.hidden:
        text = f"{visible(route.failed_at)} could not be looked at ({os.strerror(route.errno)})"
        found.append(Finding("unknown", "plain", f"{text}: what lies behind it is not known, and counts as closed"))
    if route.not_found:
        text = f"env looks for {quoted(route.not_found)}, which is in none of the usual folders of programs"
        found.append(Finding("not-in-path", "odd", f"{text}: only a PATH that leads to it lets such a script run"))
    end = route.end
    if end is not None and end.program is not None and end.program.format is Format.HANDLED:
        text = f"{visible(end.path)} is run by the handler {visible(end.program.hangs_on)} (binfmt_misc)"
        found.append(Finding("handler", "plain", f"{text}, which decides in the end"))
    return found if route.interpreter is None else found + of_route(route.interpreter)


def of_process(process: Principal, found: "ProcessDifference", accounts: Accounts) -> list[Finding]:
    """Where a running process is not what its user's account says."""
    whose = f"process {process.pid}"
    caveats: list[Finding] = []
    if process.limits is not None:
        caveats += _of_limits(process, process.limits, whose)
    if found.missing:
        groups = joined(naming.group(gid, accounts) for gid in found.missing)
        text = f"{whose} is not in group {groups}, though its user's account is: what it was given at its start counts"
        caveats.append(Finding("process-lacks-groups", "odd", f"{text}; start it again to give it these"))
    if found.extra:
        groups = joined(naming.group(gid, accounts) for gid in found.extra)
        caveats.append(
            Finding("process-has-groups", "odd", f"{whose} is in group {groups}, though its user's account is not")
        )
    if found.holds:
        powers = joined(f"CAP_{name.upper()}" for name in capabilities.names(found.holds))
        caveats.append(
            Finding("process-holds-capabilities", "odd", f"{whose} holds {powers}, which its user alone would not")
        )
    if found.lacks:
        powers = joined(f"CAP_{name.upper()}" for name in capabilities.names(found.lacks))
        text = f"{whose} runs as number 0 but has given up {powers}"
        if process.exec_capabilities & found.lacks:
            text += "; what it runs has them again, unless its securebits forbid it, which it alone can read"
        caveats.append(Finding("process-lacks-capabilities", "odd", text))
    return caveats


def _of_limits(process: Principal, limits: Limits, whose: str) -> Iterator[Finding]:
    """Where a process sees something else, or where its powers end."""
    if limits.hidden:
        hidden = joined(f"its {what}" for what in limits.hidden)
        text = f"{hidden} may not be looked into: {whose} is judged by what Fiat sees, and without its powers"
        yield Finding("process-unknown", "plain", f"{text}; root may look")
    if limits.own_mounts:
        text = f"{whose} has mounts, or a root directory, of its own: it is judged by what it finds at each path"
        yield Finding("own-mounts", "odd", text)
    if limits.users is not None and process.capabilities:
        users = _ranges(limits.users) if limits.users else "nobody"
        text = f"{whose} has a user namespace of its own: its powers count for what belongs to {users}"
        yield Finding("user-namespace", "odd", text)
    if limits.no_new_privileges:
        text = f"{whose} has no_new_privs: setuid, setgid and file capabilities of what it runs give it nothing"
        yield Finding("no-new-privileges", "odd", text)
    if limits.filters:
        text = f"{whose} has a filter of system calls (seccomp), which may refuse what is allowed here"
        yield Finding("system-call-filter", "plain", text)


def _ranges(ranges: Ranges) -> str:
    parts = [f"{first}" if count == 1 else f"{first} to {first + count - 1}" for first, count in ranges]
    return f"user numbers {joined(parts)}"


def of_mounts_left_out(points: list[str]) -> list[Finding]:
    """Mounts under a tree that were not entered."""
    if not points:
        return []
    text = f"other file systems are mounted at {_several(points)}; --across-mounts enters them"
    return [Finding("mounts-left-out", "plain", text)]


def of_mounts_not_counted(points: list[str]) -> list[Finding]:
    """Mounts under a directory that changes, in which nobody was counted."""
    if not points:
        return []
    return [Finding("mounts-not-counted", "plain", f"gains and losses leave out what is mounted at {_several(points)}")]


def of_names_not_counted(names: int) -> list[Finding]:
    """Further names of what changes that are elsewhere, where nobody was counted."""
    if not names:
        return []
    what = "another name" if names == 1 else f"{names:,} other names"
    text = f"gains and losses leave out {what} of what changes: nothing says where on the file system these are"
    return [Finding("names-not-counted", "plain", text)]


def of_changed_alone(files: int, perhaps: int) -> Iterator[Finding]:
    """Files of an overlay's lower layer that have several names, of which one is copied up without the others; and
    those of which it is not known whether they come from there."""
    for count, how in (
        (files, "copies up each alone: the other names keep what they have"),
        (perhaps, "may copy up each alone: whether the other names change too is not known"),
    ):
        what = "a file has" if count == 1 else f"{count:,} files have"
        if count:
            text = f"{what} several names, and this overlay, which keeps no index, {how}"
            yield Finding("changed-alone", "odd", text)


def of_unread_programs(paths: Sequence[str]) -> list[Finding]:
    """Files that come to be executable, and that may not be read: whether they are scripts is not known."""
    if not paths:
        return []
    text = f"{_several([*paths])} may not be read here: a script runs for nobody but those who may read it as well"
    return [Finding("program-not-read", "plain", text)]


def of_other_mounts(paths: Sequence[str]) -> list[Finding]:
    """Paths by which other mounts show what changes, where nobody was counted either."""
    if not paths:
        return []
    text = f"what changes is shown by another mount too, and is other there as well: {_several([*paths])}"
    return [Finding("other-mounts", "plain", text)]


def _several(points: list[str]) -> str:
    more = f" and {len(points) - 4} more" if len(points) > 4 else ""
    return ", ".join(visible(point) for point in points[:4]) + more


def of_stopping(path: str, entries: int) -> list[Finding]:
    """A tree of which only a part was read."""
    text = f"only {entries:,} entries under {visible(path)} were read before it was stopped: there are more"
    return [Finding("stopped", "plain", text)]
