"""What the mask leaves, and what each class of a posture effectively gets.

acl(5), "ACCESS CHECK ALGORITHM"; ``posix_acl_permission`` in the kernel's
``fs/posix_acl.c``; ``acl_permission_check`` for the list that is passed over.
"""

from fiat.core.model.accesslist import MASKED, AccessList, Entry, Tag, from_mode
from fiat.core.model.posture import Posture

_MASK_BITS = 0o070


def effective(entry: Entry, mask: int | None) -> int:
    """The permissions (0 to 7) of ``entry`` that the ``mask`` of its list leaves; None where the list has no mask."""
    return entry.permissions if mask is None or entry.tag not in MASKED else entry.permissions & mask


def passes_over_list(mode: int) -> bool:
    """Whether Linux looks at the mode alone, list or no list.

    It does when the group bits, which hold the mask, are all clear.
    """
    return not mode & _MASK_BITS


def deciding_list(posture: Posture) -> AccessList:
    """The entries that the kernel goes by: those of the list, or the mode's three."""
    if posture.acl is None or passes_over_list(posture.mode):
        return from_mode(posture.mode)
    return posture.acl


def permissions_by_entry(posture: Posture) -> tuple[int, ...]:
    """What each entry of the deciding list effectively gives (0 to 7), in its order; the mask itself gives nothing.

    The owner's come from the mode: the kernel does not look at the list for the owner.
    """
    mode, acl = posture.mode, posture.acl
    if acl is None or len(acl.entries) == 3 or passes_over_list(mode):
        return (mode >> 6 & 7, mode >> 3 & 7, mode & 7)
    mask = acl.mask
    given = {Tag.OWNER: mode >> 6 & 7, Tag.MASK: 0}
    return tuple([given[entry.tag] if entry.tag in given else effective(entry, mask) for entry in acl.entries])


def group_permissions(posture: Posture) -> int:
    """What the owning group's own entry effectively gives (0 to 7)."""
    acl = deciding_list(posture)
    entry = acl.only(Tag.OWNING_GROUP)
    return 0 if entry is None else effective(entry, acl.mask)
