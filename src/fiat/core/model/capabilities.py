"""File capabilities: the bytes of the ``security.capability`` attribute.

Source: capabilities(7), "File capability extended attribute versioning", and
``linux/capability.h`` for the layout (little-endian 32-bit words: magic with
revision and the effective bit, then permitted and inheritable, low words
first; revision 3 ends with the uid that is root in the file's namespace).
"""

import struct
from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.text import shortened

CAPABILITY_XATTR = "security.capability"

NAMES = tuple(
    """
    chown dac_override dac_read_search fowner fsetid kill setgid setuid setpcap linux_immutable
    net_bind_service net_broadcast net_admin net_raw ipc_lock ipc_owner sys_module sys_rawio sys_chroot
    sys_ptrace sys_pacct sys_admin sys_boot sys_nice sys_resource sys_time sys_tty_config mknod lease
    audit_write audit_control setfcap mac_override mac_admin syslog wake_alarm block_suspend audit_read
    perfmon bpf checkpoint_restore
    """.split()
)
"""Names of capabilities(7) without ``CAP_``, by number."""

CHOWN = 1 << 0
DAC_OVERRIDE = 1 << 1
DAC_READ_SEARCH = 1 << 2
FOWNER = 1 << 3
FSETID = 1 << 4
LINUX_IMMUTABLE = 1 << 9
SETFCAP = 1 << 31
ALL = (1 << len(NAMES)) - 1
ABOUT_FILES = CHOWN | DAC_OVERRIDE | DAC_READ_SEARCH | FOWNER | FSETID
"""Those that a file is reached, changed or given away by."""

_REVISION_MASK = 0xFF000000
_EFFECTIVE = 0x000001
_WORDS = {1: 1, 2: 2, 3: 2}


class FileCapabilities(NamedTuple):
    """What running the file gives: sets as bit masks by capability number.

    ``rootid`` is the uid of version 3, None in the others.
    """

    version: int
    permitted: int
    inheritable: int
    effective: bool
    rootid: int | None = None


def names(mask: int) -> list[str]:
    """The names of the capabilities in ``mask``; unnamed ones by number."""
    return [NAMES[n] if n < len(NAMES) else str(n) for n in range(mask.bit_length()) if mask >> n & 1]


def mask_of(words: list[str]) -> int:
    """The mask of capabilities given by name or number; the inverse of :func:`names`."""
    mask = 0
    for word in words:
        if word in NAMES:
            mask |= 1 << NAMES.index(word)
        elif word.isascii() and word.isdecimal() and len(word) < 4 and int(word) < 64:
            mask |= 1 << int(word)
        else:
            raise NotationError(word, f"no capability is called {shortened(word)}; capabilities(7) lists them")
    return mask


def unpack(value: bytes) -> FileCapabilities:
    """Decode the attribute; :class:`NotationError` for bytes that are none."""
    if len(value) < 4:
        raise NotationError(value.hex(), f"{len(value)} bytes are no file capabilities")
    magic = struct.unpack_from("<I", value)[0]
    version = (magic & _REVISION_MASK) >> 24
    count = _WORDS.get(version)
    if count is None or len(value) != 4 + 8 * count + (4 if version == 3 else 0):
        raise NotationError(value.hex(), f"{len(value)} bytes of version {version} are no file capabilities")
    words = struct.unpack_from(f"<{2 * count}I", value, 4)
    permitted = inheritable = 0
    for place in range(count):
        permitted |= words[2 * place] << 32 * place
        inheritable |= words[2 * place + 1] << 32 * place
    rootid = struct.unpack_from("<I", value, 20)[0] if version == 3 else None
    return FileCapabilities(version, permitted, inheritable, bool(magic & _EFFECTIVE), rootid)


def pack(capabilities: FileCapabilities) -> bytes:
    """Encode for the attribute; the inverse of :func:`unpack`."""
    count = _WORDS[capabilities.version]
    words = []
    for place in range(count):
        words += [
            capabilities.permitted >> 32 * place & 0xFFFFFFFF,
            capabilities.inheritable >> 32 * place & 0xFFFFFFFF,
        ]
    magic = capabilities.version << 24 | (_EFFECTIVE if capabilities.effective else 0)
    tail = struct.pack("<I", capabilities.rootid or 0) if capabilities.version == 3 else b""
    return struct.pack(f"<{1 + 2 * count}I", magic, *words) + tail
