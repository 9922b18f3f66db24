"""What a change does to a posture, the kernel's side effects included.

chmod(2), inode(7), and the kernel's ``fs/attr.c`` (``setattr_prepare``,
``may_setattr``) and ``fs/posix_acl.c`` (``posix_acl_chmod``).
"""

import errno
from typing import NamedTuple

from fiat.core import capabilities
from fiat.core.mode import SETGID, SPECIAL, ModeChange, special_names
from fiat.core.posture import Kind, Object, Posture
from fiat.core.principals import Principal


class Note(NamedTuple):
    """Something about an edit that a person should know.

    ``code`` is stable and one word; ``text`` says it.
    """

    code: str
    text: str


class Edit(NamedTuple):
    """What a change will do to one object.

    ``errno`` is the kernel's refusal, or 0; then ``after`` is what will be.
    ``requested`` is the mode to ask the kernel for.
    """

    object: Object
    requested: int
    after: Posture
    notes: tuple[Note, ...] = ()
    errno: int = 0

    @property
    def changes(self) -> bool:
        """Whether anything will be different."""
        return not self.errno and self.after != self.object.posture


def with_mode(posture: Posture, mode: int) -> Posture:
    """``posture`` with the twelve bits of ``mode``, its list kept in step as the kernel does."""
    acl = posture.acl.with_mode(mode) if posture.acl else None
    return posture._replace(mode=mode, acl=acl)


def change_mode(object_: Object, change: ModeChange, actor: Principal, umask: int) -> Edit:
    """What ``change``, made by ``actor``, will do to ``object_``."""
    posture = object_.posture
    mode = change.apply(posture.mode, directory=posture.directory, umask=umask)
    refusal = _refusal(object_, actor)
    if refusal:
        return Edit(object_, mode, posture, errno=refusal)
    notes = _notes_on_special_bits(posture, mode, change)
    effective = mode
    if mode & SETGID and posture.gid not in actor.gids and not actor.holds(capabilities.FSETID):
        effective &= ~SETGID
        notes.append(
            Note("drops-setgid", f"the kernel leaves setgid out: the one who acts is not in group {posture.gid}")
        )
    if posture.acl is not None and posture.acl.mask is not None and (mode ^ posture.mode) & 0o070:
        notes.append(
            Note(
                "sets-mask",
                "the group digit sets the mask of the access list; the owning group's own entry stays as it is",
            )
        )
    return Edit(object_, mode, with_mode(posture, effective), tuple(notes))


def _refusal(object_: Object, actor: Principal) -> int:
    """The errno with which chmod(2) refuses ``actor``, in the kernel's order; 0 if it does not."""
    posture = object_.posture
    if object_.mount is not None and object_.mount.read_only:
        return errno.EROFS
    if posture.kind is Kind.SYMLINK:
        return errno.EOPNOTSUPP
    if posture.flags and ("immutable" in posture.flags or "append-only" in posture.flags):
        return errno.EPERM
    if posture.uid != actor.uid and not actor.holds(capabilities.FOWNER):
        return errno.EPERM
    return 0


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
