"""What ID-mapped mounts make of the numbers on disk: statmount(2), which tells it since Linux 6.15, and listmount(2).

Python has neither call. Their numbers are the same on every kind of processor (``asm-generic/unistd.h``), the
structures are those of ``linux/mount.h``.
"""

import ctypes
import struct

from fiat.core.model.idmap import IdMap, NumberMap, parse

_STATMOUNT, _LISTMOUNT = 457, 458
_BASIC, _USERS, _GROUPS = 0x2, 0x2000, 0x4000
_REQUEST = struct.Struct("=IIQQQ")
_ALL = 0xFFFFFFFFFFFFFFFF
"""In place of a mount: every mount of the namespace (``LSMT_ROOT``)."""

_AT_ONCE = 512
_SIZE = 1 << 16
_MASK_AT, _OLD_ID_AT, _USERS_AT, _GROUPS_AT, _TEXTS_AT = 8, 56, 152, 160, 512


def id_maps(namespace: int = 0) -> dict[int, IdMap]:
    """By the number that mountinfo has for it, what each mount maps of which that can be told.

    They are those of this process's mount namespace, or of the one with this identifier. Empty where the kernel does
    not tell.
    """
    library = ctypes.CDLL(None, use_errno=True)
    found: dict[int, IdMap] = {}
    last = 0
    numbers = (ctypes.c_uint64 * _AT_ONCE)()
    while True:
        request = _REQUEST.pack(_REQUEST.size, 0, _ALL, last, namespace)
        count = library.syscall(_LISTMOUNT, request, numbers, ctypes.c_size_t(_AT_ONCE), 0)
        if count <= 0:
            return found
        for number in numbers[:count]:
            one = _id_map(library, number, namespace)
            if one is not None:
                found[one[0]] = one[1]
        last = numbers[count - 1]
        if count < _AT_ONCE:
            return found


def _id_map(library: ctypes.CDLL, number: int, namespace: int) -> tuple[int, IdMap] | None:
    """The old number of a mount and its map; None where it has none, or the kernel does not say."""
    request = _REQUEST.pack(_REQUEST.size, 0, number, _BASIC | _USERS | _GROUPS, namespace)
    answer = ctypes.create_string_buffer(_SIZE)
    if library.syscall(_STATMOUNT, request, answer, ctypes.c_size_t(_SIZE), 0):
        return None
    (told,) = struct.unpack_from("=Q", answer, _MASK_AT)
    if told & (_USERS | _GROUPS) != _USERS | _GROUPS:
        return None
    users, groups = (_numbers(answer.raw, at) for at in (_USERS_AT, _GROUPS_AT))
    if not users.extents and not groups.extents:
        return None
    (old,) = struct.unpack_from("=I", answer, _OLD_ID_AT)
    return old, IdMap(users, groups)


def _numbers(answer: bytes, at: int) -> NumberMap:
    """A map: how many texts there are, and where they begin among the texts, each ended by a zero byte."""
    count, offset = struct.unpack_from("=II", answer, at)
    texts = answer[_TEXTS_AT + offset :].split(b"\0")[:count]
    return parse("\n".join(text.decode("utf-8", "replace") for text in texts))


_GET_MOUNT_NAMESPACE = 2 << 30 | 8 << 16 | 0xB7 << 8 | 0x5
"""NS_GET_MNTNS_ID of ``linux/nsfs.h``."""


def identifier_of(namespace: int) -> int:
    """The identifier of the mount namespace that a handle (``/proc/PID/ns/mnt``) is on; 0 where there is none to be
    had."""
    import fcntl

    try:
        return int(struct.unpack("=Q", fcntl.ioctl(namespace, _GET_MOUNT_NAMESPACE, bytes(8)))[0])
    except OSError:
        return 0
