"""Extended attributes that say something about access: from the kernel's bytes."""

import errno
import os
from collections.abc import Callable, Iterable
from typing import NamedTuple

from fiat.core.errors import FiatError
from fiat.core.model import capabilities, listbytes
from fiat.core.model.accesslist import AccessList
from fiat.core.model.capabilities import CAPABILITY_XATTR, FileCapabilities
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR

LABELS = ("security.selinux", "security.SMACK64")
"""The attributes in which security modules keep their labels."""

NAMES = (ACCESS_XATTR, DEFAULT_XATTR, CAPABILITY_XATTR, *LABELS)
"""All that is asked for."""

KNOWN_FILE_SYSTEMS = frozenset(["ext2", "ext3", "ext4", "xfs", "btrfs", "tmpfs", "f2fs", "overlay"])
"""On these, listxattr(2) names every list, and statx(2) tells every flag; elsewhere each object is asked for each."""

_PLACES = {name: place for place, name in enumerate(NAMES)}

Raw = tuple[bytes | int | None, ...]
"""For each attribute its bytes; None where it is not set; an errno where it could not be read."""

NOTHING: Raw = ()


class Attributes(NamedTuple):
    """What the attributes of an object say; ``unknown`` as in :class:`Object`."""

    acl: AccessList | None = None
    default: AccessList | None = None
    capabilities: FileCapabilities | None = None
    label: str | None = None
    unknown: tuple[tuple[str, int], ...] = ()


def read(listed: Iterable[str], get: Callable[[str], bytes]) -> Raw:
    """Get those of the attributes ``listed`` that matter."""
    found: list[bytes | int | None] | None = None
    for name in listed:
        place = _PLACES.get(name)
        if place is None:
            continue
        try:
            value: bytes | int = get(name)
        except OSError as error:
            if error.errno in (errno.ENODATA, errno.EOPNOTSUPP):
                continue
            value = error.errno or errno.EIO
        if found is None:
            found = [None] * len(_PLACES)
        found[place] = value
    return NOTHING if found is None else tuple(found)


def lists_are_kept(path: str) -> bool | None:
    """Whether the file system at ``path``, which is no symlink, keeps access lists; None where it does not say."""
    try:
        os.getxattr(path, ACCESS_XATTR)
    except OSError as error:
        return {errno.ENODATA: True, errno.EOPNOTSUPP: False}.get(error.errno or 0)
    return True


def decoded(raw: Raw) -> Attributes:
    """The lists and capabilities that raw extended attributes hold, with what of them is unknown."""
    if not raw:
        return Attributes()
    unknown: list[tuple[str, int]] = []

    def known(value: bytes | int | None, what: str) -> bytes | None:
        if isinstance(value, int):
            unknown.append((what, value))
            return None
        return value

    def a_list(value: bytes | int | None, what: str) -> AccessList | None:
        data = known(value, what)
        try:
            return None if data is None else listbytes.unpack(data)
        except FiatError:
            unknown.append((what, errno.EINVAL))
            return None

    access, default, powers, *labels = raw
    acl, inherited = a_list(access, "access list"), a_list(default, "default list")
    data = known(powers, "capabilities")
    held = None
    try:
        held = None if data is None else capabilities.unpack(data)
    except FiatError:
        unknown.append(("capabilities", errno.EINVAL))
    label = next((os.fsdecode(value.rstrip(b"\0")) for value in labels if isinstance(value, bytes)), None)
    return Attributes(acl, inherited, held, label, tuple(unknown))
