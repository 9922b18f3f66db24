"""Real files: made, looked at byte for byte, and put right."""

import os
import stat
from collections.abc import Callable
from contextlib import suppress

from fiat.core.model import capabilities, listbytes
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR
from fiat.core.words.entries import parse_list

POWERS = capabilities.pack(capabilities.FileCapabilities(2, 1 << 10, 0, True))
"""File capabilities as the kernel keeps them."""

_XATTRS = (ACCESS_XATTR, DEFAULT_XATTR, capabilities.CAPABILITY_XATTR)

State = tuple[object, ...]
"""Everything that a change touches: mode, owners, and the bytes of the attributes."""


def make(path: str, mode: int = 0o644, *, directory: bool = False, text: bytes = b"") -> str:
    if directory:
        os.mkdir(path)
    else:
        fd = os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY)
        os.write(fd, text)
        os.close(fd)
    os.chmod(path, mode)
    return path


def give_list(path: str, text: str, name: str = ACCESS_XATTR) -> None:
    os.setxattr(path, name, listbytes.pack(parse_list(text, int, int)))


def list_of(path: str, name: str = ACCESS_XATTR) -> list[str]:
    return listbytes.unpack(os.getxattr(path, name)).texts()


def mode_of(path: str) -> int:
    return stat.S_IMODE(os.lstat(path).st_mode)


def state_of(path: str) -> State:
    """Everything that a change touches, as the kernel has it, byte for byte."""
    status = os.lstat(path)
    values = []
    for name in _XATTRS:
        value = None
        with suppress(OSError):
            value = os.getxattr(path, name, follow_symlinks=False)
        values.append(value)
    return (status.st_mode, status.st_uid, status.st_gid, *values)


def set_state(path: str, state: State) -> None:
    mode, uid, gid, *values = state
    assert isinstance(mode, int)
    assert isinstance(uid, int)
    assert isinstance(gid, int)
    os.lchown(path, uid, gid)
    if os.path.islink(path):
        return
    for name, value in zip(_XATTRS, values, strict=True):
        with suppress(OSError):
            os.removexattr(path, name)
        if isinstance(value, bytes):
            os.setxattr(path, name, value)
    os.chmod(path, mode & 0o7777)


def states(top: str) -> dict[str, State]:
    found = {top: state_of(top)}
    for folder, folders, files in os.walk(top):
        for name in (*folders, *files):
            path = os.path.join(folder, name)
            found[path] = state_of(path)
    return found


def in_child(task: Callable[[], object]) -> int:
    """The number of a child process that does ``task``, silently."""
    child = os.fork()
    if child:
        return child
    try:
        null = os.open(os.devnull, os.O_RDWR)
        os.dup2(null, 1)
        os.dup2(null, 2)
        task()
    finally:
        os._exit(0)
