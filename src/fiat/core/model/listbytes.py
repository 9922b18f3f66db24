"""Access lists as the kernel's bytes.

These are the values of the ``system.posix_acl_access`` and
``system.posix_acl_default`` extended attributes (``linux/posix_acl_xattr.h``):
a little-endian 32-bit version, then for each entry 16-bit tag, 16-bit
permissions, 32-bit id.
"""

import struct
from functools import lru_cache

from fiat.core.errors import InvalidAccessList
from fiat.core.model.accesslist import NAMED, NO_ID, AccessList, Entry, Tag, check
from fiat.core.model.idmap import UNMAPPED

ACCESS_XATTR = "system.posix_acl_access"
DEFAULT_XATTR = "system.posix_acl_default"

_VERSION = 2
_HEADER = struct.Struct("<I")
_ENTRY = struct.Struct("<HHI")
MOST_ENTRIES = (65_536 - _HEADER.size) // _ENTRY.size
"""So many entries fit into the value of an attribute (``XATTR_SIZE_MAX``, xattr(7)): 8,191."""

_TAGS = {int(tag): tag for tag in Tag}


def pack(acl: AccessList) -> bytes:
    """The extended attribute's value for ``acl``."""
    return _HEADER.pack(_VERSION) + b"".join(
        _ENTRY.pack(entry.tag, entry.permissions, NO_ID if entry.id is None else min(entry.id, NO_ID))
        for entry in acl.entries
    )


@lru_cache(4096)
def unpack(value: bytes) -> AccessList:
    """The list in an extended attribute's value; :class:`InvalidAccessList` for other bytes."""
    size = len(value) - _HEADER.size
    if size < 0 or size % _ENTRY.size:
        raise InvalidAccessList(f"{len(value)} bytes are no access list: 4 bytes and 8 for each entry are")
    version = _HEADER.unpack_from(value)[0]
    if version != _VERSION:
        raise InvalidAccessList(f"access list of version {version}; the kernel's is version {_VERSION}")
    entries = []
    for tag, permissions, number in _ENTRY.iter_unpack(value[_HEADER.size :]):
        known = _TAGS.get(tag)
        if known is None:
            raise InvalidAccessList(f"entry with tag {tag:#x}; the kernel's are {', '.join(hex(t) for t in Tag)}")
        named = UNMAPPED if number == NO_ID else number
        entries.append(Entry(known, permissions, named if known in NAMED else None))
    return check(entries)
