"""What a change does to a posture, the kernel's side effects included.

chmod(2), inode(7), acl(5), and the kernel's ``fs/attr.c`` (``setattr_prepare``,
``may_setattr``) and ``fs/posix_acl.c`` (``posix_acl_chmod``,
``posix_acl_update_mode``).
"""

import errno
from typing import NamedTuple

from fiat.core import accesslist, capabilities, naming
from fiat.core.accesslist import AccessList, Entry, from_mode
from fiat.core.accounts import Accounts
from fiat.core.mode import SETGID, SPECIAL, ModeChange, permission_letters, special_names
from fiat.core.posture import Kind, Object, Posture
from fiat.core.principals import Principal


class Note(NamedTuple):
    """Something about an edit that a person should know.

    ``code`` is stable and one word; ``text`` says it.
    """

    code: str
    text: str


class Guard(NamedTuple):
    """A named reason to refuse a plan until it is accepted by this name."""

    name: str
    path: str
    text: str


class Wish(NamedTuple):
    """What is to be changed: the mode, entries to add or replace, entries to remove.

    Of entries to remove the permissions do not count.
    """

    mode: ModeChange | None = None
    entries: tuple[Entry, ...] = ()
    no_entries: tuple[Entry, ...] = ()

    @property
    def changes_list(self) -> bool:
        """Whether the access list is to be changed."""
        return bool(self.entries or self.no_entries)


class Edit(NamedTuple):
    """What a change will do to one object.

    ``errno`` is the kernel's refusal, or 0; then ``after`` is what will be.
    ``mode`` and ``acl`` are what to ask the kernel for, in this order, None
    where it is not asked for that.
    """

    object: Object
    after: Posture
    mode: int | None = None
    acl: AccessList | None = None
    notes: tuple[Note, ...] = ()
    guards: tuple[Guard, ...] = ()
    errno: int = 0

    @property
    def changes(self) -> bool:
        """Whether anything will be different."""
        return not self.errno and self.after != self.object.posture


def with_mode(posture: Posture, mode: int) -> Posture:
    """``posture`` with the twelve bits of ``mode``, its list kept in step as the kernel does."""
    acl = posture.acl.with_mode(mode) if posture.acl else None
    return posture._replace(mode=mode, acl=acl)


def with_list(posture: Posture, acl: AccessList) -> Posture:
    """``posture`` with another access list, its mode kept in step; a list that the mode says all of is not kept."""
    mode = posture.mode & SPECIAL | acl.mode()
    return posture._replace(mode=mode, acl=None if acl.is_mode_only() else acl)


def make(object_: Object, wish: Wish, actor: Principal, umask: int, accounts: Accounts) -> Edit:
    """What ``wish``, carried out by ``actor``, will do to ``object_``."""
    posture = object_.posture
    refusal = _refusal(object_, actor, wish)
    if refusal:
        return Edit(object_, posture, errno=refusal)
    notes: list[Note] = []
    mode = acl = None
    after = posture
    if wish.mode is not None:
        mode = wish.mode.apply(posture.mode, directory=posture.directory, umask=umask)
        notes += _notes_on_special_bits(posture, mode, wish.mode)
        if posture.acl is not None and posture.acl.mask is not None and (mode ^ posture.mode) & 0o070:
            notes.append(_SETS_MASK)
        after = _without_setgid(with_mode(posture, mode), actor, notes)
    if wish.changes_list:
        before = after.acl or from_mode(after.mode)
        acl = accesslist.with_entries(before, wish.entries, wish.no_entries)
        after = _without_setgid(with_list(after, acl), actor, notes)
    guards = tuple(_unmasked(object_.path, posture, after, accounts))
    return Edit(object_, after, mode, acl, tuple(dict.fromkeys(notes)), guards)


def _refusal(object_: Object, actor: Principal, wish: Wish) -> int:
    """The errno with which the kernel refuses ``actor``, in its order; 0 if it does not."""
    posture = object_.posture
    if object_.mount is not None and object_.mount.read_only:
        return errno.EROFS
    if posture.kind is Kind.SYMLINK or (wish.changes_list and object_.keeps_lists is False):
        return errno.EOPNOTSUPP
    if posture.flags and ("immutable" in posture.flags or "append-only" in posture.flags):
        return errno.EPERM
    if posture.uid != actor.uid and not actor.holds(capabilities.FOWNER):
        return errno.EPERM
    return 0


def _without_setgid(after: Posture, actor: Principal, notes: list[Note]) -> Posture:
    """``after``, less setgid where the kernel drops it: the one who acts is neither in the group nor CAP_FSETID."""
    if not after.mode & SETGID or after.gid in actor.gids or actor.holds(capabilities.FSETID):
        return after
    notes.append(Note("drops-setgid", f"the kernel leaves setgid out: the one who acts is not in group {after.gid}"))
    return after._replace(mode=after.mode & ~SETGID)


def _unmasked(path: str, before: Posture, after: Posture, accounts: Accounts) -> list[Guard]:
    """Entries that were there before, and get more only because the mask is raised."""
    if before.acl is None:
        return []
    new = after.acl or from_mode(after.mode)
    found = []
    for entry in before.acl.entries:
        had = before.acl.effective(entry)
        more = new.effective(entry) & ~had if entry in new.entries else 0
        if more:
            letters = permission_letters(more).replace("-", "")
            found.append(f"{naming.entry(entry, accounts)} gets {letters}")
    if not found:
        return []
    return [Guard("unmasks", path, f"raising the mask hands out what it was cutting off: {naming.joined(found)}")]


_SETS_MASK = Note(
    "sets-mask", "the group digit sets the mask of the access list; the owning group's own entry stays as it is"
)


def _notes_on_special_bits(posture: Posture, mode: int, change: ModeChange) -> list[Note]:
    if change.octal is None or change.digits > 3 or not posture.mode & SPECIAL:
        return []
    names = " and ".join(special_names(posture.mode))
    if posture.directory:
        clearing = f"0{change.octal:03o}"
        text = f"{names} stays: {change.text} sets only rwx on a directory; {clearing} would clear it"
        return [Note("keeps-special", text)]
    keeping = f"{mode | posture.mode & SPECIAL:04o}"
    return [Note("loses-special", f"{names} goes: {change.text} sets all the bits of a file; {keeping} would keep it")]
