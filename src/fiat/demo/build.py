"""Builds the sample host's tree for real: numeric owners, real access lists."""

import errno
import os
import shlex
import shutil
import stat

from fiat.core.errors import PathError
from fiat.core.model import capabilities, listbytes
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.posture import Kind, Object
from fiat.demo import sample
from fiat.demo.program import smallest_program
from fiat.host.snapshot import reader as snapshot

TOP = "/srv"
"""The part of the sample host that is built; the rest is system directories that every host has."""

ACCOUNTS = "accounts"
"""The folder beside the tree that holds the accounts files."""

SETTINGS = "settings.sh"
"""The file beside it that has a shell say so of every command."""


def build(folder: str) -> list[str]:
    """Make the sample tree and its accounts under ``folder``, which is absent or empty.

    Returns what the image has and the built tree has not, in words. Raises
    :class:`PathError` where something cannot be made, and where others could put something in its place meanwhile.
    """
    held = -1
    try:
        os.makedirs(folder, mode=0o755, exist_ok=True)
        held = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
        status = os.fstat(held)
        if status.st_uid != os.geteuid() or status.st_mode & 0o022:
            hint = "others could put something else in the place of what is made there"
            raise PathError(folder, errno.EPERM, "build the sample host in", hint)
        if os.listdir(held):
            raise PathError(folder, errno.ENOTEMPTY, "build the sample host in")
        objects = _build_in(f"/proc/self/fd/{held}", folder)  # wherever the folder is moved
    except OSError as error:
        path = str(error.filename or folder).replace(f"/proc/self/fd/{held}", folder)
        raise PathError(path, error.errno or errno.EIO, "make") from error
    finally:
        if held >= 0:
            os.close(held)
    return [f"{folder}{o.path} has no {'/'.join(o.posture.flags)} flag" for o in objects if o.posture.flags]


def _build_in(folder: str, named: str) -> list[Object]:
    """Make it all in ``folder``, which others know as ``named``; the objects by their paths on the sample host."""
    shutil.copytree(sample.ACCOUNTS, os.path.join(folder, ACCOUNTS))
    with open(os.path.join(folder, SETTINGS), "x", encoding="utf-8", errors="surrogateescape") as file:
        file.write(f"FIAT_ACCOUNTS={shlex.quote(os.path.join(named, ACCOUNTS))}\nexport FIAT_ACCOUNTS\n")
    objects = [
        object_
        for object_ in snapshot.read(sample.SNAPSHOT).objects.values()
        if object_.path == TOP or object_.path.startswith(TOP + "/")
    ]
    for object_ in objects:
        _make(object_._replace(path=folder + object_.path))
    # only now, so that no default list is inherited; a directory after what is in it, which others may write to then
    for object_ in reversed(objects):
        _set_posture(object_._replace(path=folder + object_.path))
    return objects


def _make(object_: Object) -> None:
    path, kind = object_.path, object_.posture.kind
    if kind is Kind.DIRECTORY:
        os.mkdir(path, 0o700)
    elif kind is Kind.SYMLINK:
        os.symlink(object_.target or "", path)
    elif kind is Kind.FIFO:
        os.mkfifo(path, 0o600)
    elif kind is Kind.SOCKET:
        os.mknod(path, stat.S_IFSOCK | 0o600)
    else:
        with open(path, "xb") as file:
            file.write(_start_of(object_))
            file.truncate(object_.status.size)  # sparse: the sizes are told, not stored


def _start_of(object_: Object) -> bytes:
    """What the file begins with, so that it is the program or the script that it is meant to be."""
    if object_.script:
        return b"#!" + os.fsencode(object_.script) + b"\n"
    return smallest_program() if object_.posture.mode & EXECUTE_BITS else b""


def _set_posture(object_: Object) -> None:
    path, posture = object_.path, object_.posture
    os.chown(path, posture.uid, posture.gid, follow_symlinks=False)
    if posture.kind is Kind.SYMLINK:
        return
    if posture.acl is not None:
        os.setxattr(path, ACCESS_XATTR, listbytes.pack(posture.acl), follow_symlinks=False)
    if posture.default is not None:
        os.setxattr(path, DEFAULT_XATTR, listbytes.pack(posture.default), follow_symlinks=False)
    if posture.capabilities is not None:
        os.setxattr(path, capabilities.CAPABILITY_XATTR, capabilities.pack(posture.capabilities), follow_symlinks=False)
    os.chmod(path, posture.mode)
