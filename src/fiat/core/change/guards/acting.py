"""Guards that speak of the one who acts: what the kernel will refuse them, what they could not put back, and where the
system itself lives."""

import errno
import os
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from fiat.core.change.planned import PlannedChange
from fiat.core.change.steps import Change, Steps, change, steps_towards, through_flags
from fiat.core.model.accounts import Accounts
from fiat.core.model.finding import Finding
from fiat.core.model.posture import FLAGS, Kind, Mount
from fiat.core.model.principals import Principal
from fiat.core.rules.attributes import may_change_flags, out_of_range, refused_to_everyone, unmapped_in
from fiat.core.rules.sideeffects import torn
from fiat.core.text import counted, joined
from fiat.core.tree.profile import Profile
from fiat.core.words import naming

_ITSELF = frozenset(
    """/ /boot /dev /etc /home /media /mnt /opt /proc /root /run /srv /sys /tmp /usr /var /usr/local /usr/local/bin
    /usr/local/sbin /usr/local/lib /var/lib /var/log /var/spool /var/tmp /var/cache /var/lock /var/run /var/mail
    /etc/passwd /etc/group /etc/shadow /etc/gshadow /etc/fstab /etc/hosts /etc/hostname /etc/resolv.conf
    /etc/nsswitch.conf /etc/profile /etc/ssl /etc/ssh /etc/pam.d /etc/security /etc/ld.so.conf
    /etc/ld.so.cache""".split()
)
_AND_ALL_BELOW = ("/bin", "/boot", "/dev", "/lib", "/lib32", "/lib64", "/libx32", "/proc", "/sbin", "/sys", "/usr")
_BUT = "/usr/local/"


def on_system_paths(path: str, *, with_tree: bool) -> Iterator[str]:
    """What is to be said of a change at ``path``; ``with_tree`` says that all under it is to change as well."""
    kept = any(path == top or path.startswith(f"{top}/") for top in _AND_ALL_BELOW) and not path.startswith(_BUT)
    if path in _ITSELF or kept:
        what = "all under it would change with it, and " if with_tree and path in _ITSELF else ""
        yield f"{what}the system depends on how this is set"


class Suspect(NamedTuple):
    """One kind of change in a plan: what it is made to, and on how many paths, of which ``example`` is one.

    ``known`` tells that these had what comes out before, with the same contents; ``held`` that only flags keep
    it from being made; ``owner_asked`` that the new owner was asked for by name, for this very object.
    """

    profile: Profile
    change: Change
    example: str
    paths: int
    known: bool = False
    held: bool = False
    owner_asked: bool = False


WHO = "\0"
"""Stands in what is said of a change for the one whom it is about: for many owners it is said once."""


_FLAT = {
    "read-only": "mounted read-only",
    **{flag: flag for flag in FLAGS},
}


def partly_forbidden(refused: Sequence[Suspect], paths: int, actor: Principal, accounts: Accounts) -> Iterator[Finding]:
    """What is to be said where some of ``paths`` paths are ``refused``, and the others would be changed."""
    if not refused:
        return
    reasons: Counter[str] = Counter()
    for one in refused:
        reasons[_why(one, actor, accounts)] += one.paths
    count = sum(reasons.values())
    said = "; ".join(
        f"{number:,} {reason}" if len(reasons) > 1 else reason for reason, number in reasons.most_common(3)
    )
    text = f"{count:,} of {counted(paths, 'path')} cannot be changed by {_name(actor, accounts)}: {said}"
    most = max(refused, key=lambda one: one.paths)
    yield Finding("partly-forbidden", "danger", text, most.example, count)


def held_by_flags(held: Sequence[Suspect], paths: int) -> Iterator[Finding]:
    """What is to be said where flags alone keep some of ``paths`` paths as they are."""
    if not held:
        return
    count = sum(one.paths for one in held)
    flags = [flag for flag in FLAGS if any(flag in (one.change.before.flags or ()) for one in held)]
    some = "it is" if paths == 1 else f"{count:,} of {counted(paths, 'path')} {'is' if count == 1 else 'are'}"
    does = "clears it, makes the change and sets it again"
    text = f"{some} {joined(flags)}, and nothing of that changes; --through-flags {does}"
    yield Finding("held-by-flags", "danger", text, held[0].example, count)


def _name(actor: Principal, accounts: Accounts) -> str:
    """The user who acts; that it is a process says nothing here."""
    return naming.user(actor.uid or 0, accounts)


def _why(one: Suspect, actor: Principal, accounts: Accounts) -> str:
    """Why the kernel refuses a change, of one path or of several."""
    before, wished = one.change.before, one.change.steps
    _, rule = refused_to_everyone(before, one.profile.mount)
    if rule and not (rule in FLAGS and (wished.flags is not None or wished.flags_first is not None)):
        return _FLAT[rule]
    if one.change.errno == errno.ENOTTY:
        return "on a file system that keeps no such flags"
    if without := _without_number(one.change, one.profile.mount):
        return f"where {without}"
    if one.change.errno != errno.EPERM:
        return os.strerror(one.change.errno).lower()
    if (wished.flags is not None or wished.flags_first is not None) and not may_change_flags(actor):
        return "whose flags only root sets and clears"
    if before.uid != actor.uid:
        return "belonging to somebody else"
    if wished.uid is not None:
        return "which only root gives away"
    if wished.gid is not None:
        return f"for who is not in group {naming.group(wished.gid, accounts)} cannot give them to it"
    return os.strerror(errno.EPERM).lower()


def why_refused(planned: PlannedChange, actor: Principal, accounts: Accounts) -> str:
    """Why the kernel refuses a change, for the one who wants to make it; empty where its errno says it all."""
    before, wished = planned.change.before, planned.change.steps
    _, rule = refused_to_everyone(before, planned.profile.mount)
    flags = wished.flags is not None or wished.flags_first is not None
    if rule and not (flags and rule in FLAGS):
        return _FLAT_OF_ONE[rule]
    if planned.change.errno == errno.ENOTTY:
        return "its file system keeps no such flags"
    if without := _without_number(planned.change, planned.profile.mount):
        return without
    if planned.change.errno == errno.EOPNOTSUPP:
        link = before.kind is Kind.SYMLINK
        if not link and before.kind not in (Kind.FILE, Kind.DIRECTORY) and planned.change.steps == Steps():
            return "only files and directories have such flags"
        return "a symlink has nothing but an owner" if link else "its file system keeps no access lists"
    if planned.change.errno == errno.ENOTDIR:
        return "only a directory has a default list"
    if planned.change.errno != errno.EPERM:
        return ""
    if flags and not may_change_flags(actor):
        return "only root sets and clears such flags"
    if before.uid != actor.uid:
        return f"only its owner, or root, may, and {_name(actor, accounts)} is neither"
    if wished.uid is not None and wished.uid != before.uid:
        return "only root gives it to another user"
    if wished.gid is not None:
        group = naming.group(wished.gid, accounts)
        return f"{_name(actor, accounts)} is not in group {group}: only its members, or root, give to it what is theirs"
    return ""


def _without_number(change: Change, mount: Mount | None) -> str:
    """Why numbers that an ID-mapped mount does not have forbid a change; empty where they do not."""
    before, wished = change.before, change.steps
    if change.errno == errno.EOVERFLOW and out_of_range(before, mount, wished.uid, wished.gid):
        if before.unmapped:
            return "the ID-mapped mount has no number for who owns it: both owner and group have to be given"
        return "the ID-mapped mount has no number on disk for the new owner or group"
    if before.unmapped and change.errno in (errno.EOVERFLOW, errno.EPERM):
        return "the ID-mapped mount has no number for who owns it: change it where it is mounted without a map"
    lists = (wished.acl, wished.default)
    if change.errno == errno.EINVAL and any(one is not None and unmapped_in(one, mount) for one in lists):
        return "the ID-mapped mount has no number on disk for somebody whom the list names"
    if change.errno == errno.EINVAL:
        return "the user namespace of the one who acts does not know a number that is meant"
    return ""


_FLAT_OF_ONE = {
    "read-only": "it is mounted read-only",
    **{flag: f"it is {flag}: nothing of it changes while that flag is set, not even by root" for flag in FLAGS},
}


def no_way_back(suspects: Sequence[Suspect], actor: Principal, accounts: Accounts) -> Iterator[tuple[Finding, str]]:
    """What the one who acts could not put back, kind by kind, and whom that is about."""
    for one in suspects:
        lost, who = _lost(one, actor, accounts)
        if lost:
            text = f"{_name(actor, accounts)} could not put it back: {lost}"
            yield Finding("no-way-back", "danger", text, one.example, one.paths), who


def _lost(one: Suspect, actor: Principal, accounts: Accounts) -> tuple[str, str]:
    """What of a change the one who makes it cannot undo, and whose it was; empty where they can undo all of it."""
    before, after = one.change.before, one.change.after
    if torn(before):  # it will not be found like this again, and is left alone
        return "", ""
    back = _back(one, actor)
    if not back.errno and back.after == before:
        return "", ""
    owner, group = naming.user(before.uid, accounts), naming.group(before.gid, accounts)
    if before.unmapped and out_of_range(after, one.profile.mount, before.uid, before.gid):
        return "an owner or a group that this mount does not map cannot be given", ""
    if after.uid != before.uid:
        return f"only root gives it to {WHO} again", owner
    if after.gid != before.gid and before.gid not in actor.gids:
        return f"only root, or its owner in group {WHO}, gives it to that group again", group
    if before.capabilities is not None and after.capabilities is None:
        return "only root gives it file capabilities again", ""
    if before.mode & ~back.after.mode & 0o2000:
        return f"setgid for group {WHO} is left out for those who are not in it", group
    return os.strerror(back.errno).lower() if back.errno else "the kernel would make something else of it", ""


def _back(one: Suspect, actor: Principal) -> Change:
    before, after, profile = one.change.before, one.change.after, one.profile
    through = through_flags(before, after, one.change.between)
    back = steps_towards(after, before, actor, through=through)
    return change(after, back, actor, profile.mount, profile.keeps_lists)
