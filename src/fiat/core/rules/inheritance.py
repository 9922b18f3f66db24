"""What a new object gets from the directory that it is made in.

open(2), mkdir(2), inode(7) on setgid directories; acl(5), "OBJECT CREATION AND
DEFAULT ACLs"; the kernel's ``inode_init_owner`` and ``posix_acl_create``.
"""

from fiat.core.model.accesslist import AccessList
from fiat.core.model.mode import SETGID


def inherited_modes(default: AccessList, mode: int) -> tuple[int, int]:
    """The modes of a new file and a new directory where a directory of ``mode`` has the default list ``default``.

    A file is asked for with 666, a directory with 777; setgid is handed on to
    directories. No umask counts.
    """
    return default.mode() & 0o666, default.mode() | mode & SETGID
