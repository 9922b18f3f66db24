"""Privilege that a file hands to who runs it: setuid and setgid (execve(2)), file capabilities (capabilities(7))."""

from fiat.core.model.accesslist import Tag
from fiat.core.model.mode import SETGID, SETUID, WRITE
from fiat.core.model.posture import Kind, Posture
from fiat.core.rules.effective import effective

_SET_ID = SETUID | SETGID


def is_privileged(posture: Posture) -> bool:
    """Whether this is a regular file with a set-id bit or capabilities, whether anyone may execute it now or not."""
    return posture.kind is Kind.FILE and bool(posture.mode & _SET_ID or posture.capabilities is not None)


def without_privilege(posture: Posture) -> Posture:
    """The same without set-id bits and capabilities."""
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
