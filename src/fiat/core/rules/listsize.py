"""How long an access list may be.

The value of an attribute has at most 65,536 bytes (xattr(7)), which are 8,191 entries; XFS keeps 5,461 of them. What
ext2 to ext4 and btrfs keep depends on their blocks, and on what else is kept with the object.
"""

from fiat.core.model.accesslist import AccessList
from fiat.core.model.listbytes import MOST_ENTRIES

_MOST_ON = {"xfs": 5_461}
_MAY_BE_TOO_MANY = {"ext2": 110, "ext3": 110, "ext4": 110, "btrfs": 1_900}


def is_too_long(acl: AccessList, filesystem: str | None) -> bool:
    """Whether no file system of this type keeps such a list (E2BIG)."""
    return len(acl.entries) > _MOST_ON.get(filesystem or "", MOST_ENTRIES)


def may_be_too_long(acl: AccessList, filesystem: str | None) -> bool:
    """Whether it may be more than such a file system has room for (ENOSPC), which only trying tells."""
    return len(acl.entries) > _MAY_BE_TOO_MANY.get(filesystem or "", MOST_ENTRIES)
