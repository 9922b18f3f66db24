"""Privilege that a file hands to who runs it: setuid and setgid (execve(2)), file capabilities (capabilities(7))."""

from fiat.core.model.accesslist import Tag
from fiat.core.model.mode import EXECUTE_BITS, SETGID, SETUID, WRITE
from fiat.core.model.posture import Format, Kind, Mount, Posture, Program
from fiat.core.model.sets import Number
from fiat.core.rules.effective import effective

_SET_ID = SETUID | SETGID


def is_privileged(posture: Posture) -> bool:
    """Whether this is a regular file with a set-id bit or capabilities, whether anyone may execute it now or not."""
    return posture.kind is Kind.FILE and bool(posture.mode & _SET_ID or posture.capabilities is not None)


_GROUP_EXECUTES = 0o010


def set_id_by_mode(mode: Number) -> Number:
    """The set-id bits of a regular file's mode that count when it is run, as far as the mode says.

    Setuid counts where anybody may execute it, setgid only where the group may (``bprm_fill_uid`` in the kernel's
    ``fs/exec.c``; inode(7) on the other meaning that setgid once had). Holds of one mode, and of a column of many.
    """
    runs, group_runs = mode & EXECUTE_BITS != 0, mode & _GROUP_EXECUTES != 0
    return (mode & SETUID) * runs | (mode & SETGID) * group_runs


def refuses_privilege(program: Program | None, mount: Mount | None) -> str:
    """Why set-id bits and capabilities of a file count for nothing whatever its mode is: ``script``, ``nosuid``, or
    empty where they count (execve(2), mount(8))."""
    if program is not None and program.format is Format.SCRIPT:
        return "script"
    return "nosuid" if mount is not None and "nosuid" in mount.options else ""


def without_privilege(posture: Posture) -> Posture:
    """The posture without set-id bits and capabilities."""
    return posture._replace(mode=posture.mode & ~_SET_ID, capabilities=None)


def others_could_write(posture: Posture, owner: int) -> bool:
    """Whether anybody but root and the user ``owner`` may have written to what had this posture.

    Who owned it could give themselves the right. A group counts as having members.
    """
    if posture.uid not in (0, owner) or posture.mode & 0o002:
        return True
    if posture.acl is None:
        return bool(posture.mode & 0o020)
    return any(
        effective(entry, posture.acl.mask) & WRITE and not (entry.tag is Tag.NAMED_USER and entry.id in (0, owner))
        for entry in posture.acl.entries
        if entry.tag in (Tag.NAMED_USER, Tag.OWNING_GROUP, Tag.NAMED_GROUP)
    )


def hands_on_more_than_the_owner_has(posture: Posture) -> bool:
    """Whether it gives what its owner need not have: capabilities, or a group; so its owner is one of the others."""
    return bool(posture.uid) and bool(posture.capabilities is not None or posture.mode & SETGID)
