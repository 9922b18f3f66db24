"""What the mask leaves, and what each class of a posture effectively gets.

acl(5), "ACCESS CHECK ALGORITHM"; ``posix_acl_permission`` in the kernel's
``fs/posix_acl.c``; ``acl_permission_check`` for the list that is passed over.
"""

from collections.abc import Sequence

from fiat.core.model.accesslist import MASKED, AccessList, Entry, Tag, from_mode
from fiat.core.model.posture import Posture
from fiat.core.model.sets import Number

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


def deciding_entries(mode: int, acl: AccessList | None) -> tuple[Entry, ...] | None:
    """The entries of a list that the kernel goes by; None where the mode alone decides."""
    return None if acl is None or len(acl.entries) == 3 or passes_over_list(mode) else acl.entries


def left_by_mask(acl: AccessList) -> tuple[int, ...]:
    """What each entry effectively gives (0 to 7), in its order; the mask itself gives nothing."""
    mask = acl.mask
    return tuple([0 if entry.tag is Tag.MASK else effective(entry, mask) for entry in acl.entries])


def permissions_by_entry(mode: Number, entries: Sequence[tuple[Tag, Number]] | None) -> tuple[Number, ...]:
    """What each of the deciding entries gives (0 to 7), in their order: of the mode alone these are three.

    ``entries`` are the tags with what the mask left. The owner's permissions
    come from the mode: the kernel does not look at the list for the owner.
    Holds of one posture, and of columns of many alike.
    """
    if entries is None:
        return (mode >> 6 & 7, mode >> 3 & 7, mode & 7)
    return tuple([mode >> 6 & 7 if tag is Tag.OWNER else left for tag, left in entries])


def group_permissions(posture: Posture) -> int:
    """What the owning group's own entry effectively gives (0 to 7)."""
    acl = deciding_list(posture)
    entry = acl.only(Tag.OWNING_GROUP)
    return 0 if entry is None else effective(entry, acl.mask)
