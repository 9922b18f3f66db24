"""Named reasons to refuse a plan until it is accepted by that name."""

from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.model.accesslist import AccessList, Tag, from_mode
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import DAC_OVERRIDE
from fiat.core.model.mode import EXECUTE, EXECUTE_BITS, SETGID, SETUID, STICKY, octal, permission_letters, special_names
from fiat.core.model.posture import Kind, Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.rules.changing import Change
from fiat.core.rules.decision import Decision
from fiat.core.words import naming

GUARDS = {
    "lockout": "a directory's owner, or the one who acts, can no longer traverse it",
    "everyone-writes": "everyone on this host may write there",
    "privilege": "setuid or setgid on something that can be executed",
    "system-path": "the system itself lives there",
    "from-root": "something is taken away from root",
    "clears-special": "the kernel drops setuid, setgid or file capabilities as the owner changes",
    "hard-links": "other names, outside what is changed, share the file",
    "unmasks": "raising the mask hands rights to entries that it was cutting off",
}
"""Every guard with what it is about."""


Asked = frozenset[tuple[Tag, int | None]]
"""Entries, by what they are for."""


class Guard(NamedTuple):
    """One guard that objects, on ``paths`` paths, of which ``path`` is one."""

    name: str
    path: str
    text: str
    paths: int = 1


def of_change(
    change: Change, actor: Principal, accounts: Accounts, asked: Asked = frozenset()
) -> Iterator[tuple[str, str]]:
    """The guards that object to ``change`` wherever it happens: name, and what would happen.

    ``asked`` are the entries that are asked for by name: what they get is no surprise.
    """
    before, after = change.before, change.after
    if before.kind is Kind.SYMLINK:
        yield from _from_root(before, after, accounts)
        return
    yield from _lockout(before, after, actor, accounts)
    yield from _everyone_writes(before, after)
    yield from _privilege(before, after, accounts)
    yield from _from_root(before, after, accounts)
    yield from _clears(change)
    yield from _unmasks(before.acl, after.acl or from_mode(after.mode), accounts, asked, "")
    if after.default is not None:
        yield from _unmasks(before.default, after.default, accounts, asked, "in what is made here ")


def _lockout(before: Posture, after: Posture, actor: Principal, accounts: Accounts) -> Iterator[tuple[str, str]]:
    if not after.directory:
        return
    owner = after.uid
    had = before.mode & 0o100 or before.uid != owner
    if owner and had and not after.mode & 0o100:
        yield "lockout", f"its owner {naming.user(owner, accounts)} could no longer traverse it"
    elif actor.uid != owner and not actor.holds(DAC_OVERRIDE):
        alone = Universe([actor])
        if Decision(before, alone).allowed(EXECUTE) and not Decision(after, alone).allowed(EXECUTE):
            yield "lockout", "the one who acts could no longer traverse it"


def _everyone_writes(before: Posture, after: Posture) -> Iterator[tuple[str, str]]:
    def open_to_all(posture: Posture) -> bool:
        needed = 3 if posture.directory else 2
        return posture.mode & needed == needed

    if open_to_all(after) and not open_to_all(before):
        if not after.directory:
            yield "everyone-writes", "everyone who gets there could write to it"
        elif after.mode & STICKY:
            yield "everyone-writes", "everyone who gets there could add names; sticky keeps them from removing others'"
        else:
            yield "everyone-writes", "everyone who gets there could add, rename and remove names in it"
    new, old = after.default, before.default
    if new is not None and new.mode() & 2 and not (old is not None and old.mode() & 2):
        yield "everyone-writes", "everyone could write to what is made in it, by its default list"


_SETGID_RUN = SETGID | 0o010
"""Only where the group may execute does setgid change who a program acts as (inode(7))."""


def _privilege(before: Posture, after: Posture, accounts: Accounts) -> Iterator[tuple[str, str]]:
    """Setuid or setgid that is new, another's, or open to more people than before."""
    if after.kind is not Kind.FILE:
        return
    wider = after.mode & EXECUTE_BITS & ~before.mode
    setuid = after.mode & SETUID and after.mode & EXECUTE_BITS
    if setuid and (not before.mode & SETUID or before.uid != after.uid or wider):
        yield "privilege", f"whoever runs it would act as user {naming.user(after.uid, accounts)} (setuid)"
    setgid, had_setgid = after.mode & _SETGID_RUN == _SETGID_RUN, before.mode & _SETGID_RUN == _SETGID_RUN
    if setgid and (not had_setgid or before.gid != after.gid or wider):
        yield "privilege", f"whoever runs it would act in group {naming.group(after.gid, accounts)} (setgid)"


def _from_root(before: Posture, after: Posture, accounts: Accounts) -> Iterator[tuple[str, str]]:
    if before.uid == 0 and after.uid != 0:
        new = naming.user(after.uid, accounts)
        yield "from-root", f"it would belong to {new}, who could then change it as they like"
    if before.uid == 0 and before.kind is Kind.FILE and before.mode & EXECUTE_BITS and not after.mode & EXECUTE_BITS:
        yield "from-root", f"not even root could execute it, with no x left in {octal(after.mode)}"


def _clears(change: Change) -> Iterator[tuple[str, str]]:
    if change.steps.uid is None and change.steps.gid is None:
        return
    before, after = change.before, change.after
    lost = list(special_names(before.mode & ~after.mode & 0o6000))
    if before.capabilities is not None and after.capabilities is None:
        lost.append("its file capabilities")
    if lost:
        yield "clears-special", f"the kernel drops {naming.joined(lost)} as the owner or group changes"


def _unmasks(
    before: AccessList | None, after: AccessList, accounts: Accounts, asked: Asked, where: str
) -> Iterator[tuple[str, str]]:
    """Entries that were there before, and get more only because the mask is raised."""
    if before is None:
        return
    found = []
    for entry in before.entries:
        more = after.effective(entry) & ~before.effective(entry) if entry in after.entries else 0
        if more and (entry.tag, entry.id) not in asked:
            letters = permission_letters(more).replace("-", "")
            found.append(f"{naming.entry(entry, accounts)} gets {letters}")
    if found:
        mask = before.mask
        keep = f"; --{'default-' if where else ''}mask={permission_letters(mask)} keeps it" if mask is not None else ""
        yield "unmasks", f"raising the mask hands out {where}what it was cutting off: {naming.joined(found)}{keep}"


# --- places ----------------------------------------------------------------------

_ITSELF = frozenset(
    """/ /boot /dev /etc /home /media /mnt /opt /proc /root /run /srv /sys /tmp /usr /var /usr/local /usr/local/bin
    /usr/local/sbin /usr/local/lib /var/lib /var/log /var/spool /var/tmp /var/cache /var/lock /var/run /var/mail
    /etc/passwd /etc/group /etc/shadow /etc/gshadow /etc/fstab /etc/hosts /etc/hostname /etc/resolv.conf
    /etc/nsswitch.conf /etc/profile /etc/ssl /etc/ssh /etc/pam.d /etc/security /etc/ld.so.conf
    /etc/ld.so.cache""".split()
)
_AND_ALL_BELOW = ("/bin", "/boot", "/dev", "/lib", "/lib32", "/lib64", "/libx32", "/proc", "/sbin", "/sys", "/usr")
_BUT = "/usr/local/"


def of_place(path: str, *, with_tree: bool) -> Iterator[tuple[str, str]]:
    """The guard for ``path`` itself: the directories and files a Linux system needs as they are (hier(7)).

    ``with_tree`` says that all under it is to change as well.
    """
    kept = any(path == top or path.startswith(f"{top}/") for top in _AND_ALL_BELOW) and not path.startswith(_BUT)
    if path in _ITSELF or kept:
        what = "all under it would change with it, and " if with_tree and path in _ITSELF else ""
        yield "system-path", f"{what}the system depends on how this is set"
