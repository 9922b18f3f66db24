"""What the core needs to know of a machine: the interface of every host.

Whatever stands for a machine answers to :class:`Host`: the real one, one held
in a file or in memory, and any of these as it would be after a change.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, NamedTuple, Protocol

if TYPE_CHECKING:
    from fiat.core.model.accesslist import AccessList
    from fiat.core.model.accounts import Accounts
    from fiat.core.model.capabilities import FileCapabilities
    from fiat.core.model.glance import Glance
    from fiat.core.model.login import Logins
    from fiat.core.model.posture import Identity, Object, Placement, Posture, Program
    from fiat.core.model.principals import Principal

Progress = Callable[[int, str], None]
"""Called now and then with how many entries were read, and the directory that was read last."""


def no_progress(entries: int, path: str) -> None:
    """Show nobody how far the work has come."""


class NotHeld(OSError):
    """A host that is held in a file has nothing on this path: what is there, or whether anything is, is not known."""


class Settings(NamedTuple):
    """Settings of a host that change what the access rules say.

    ``umask`` is the file mode creation mask of the process that acts;
    ``protected_symlinks``, ``protected_regular`` and ``protected_fifos`` (0
    to 2) are the settings of these names in proc_sys_fs(5);
    ``security_modules`` those that may refuse more than the rules here do;
    ``user_namespace`` whether numbers here are not those of the whole machine; ``cut_short`` whether the host is held
    in a file that lacks its end.
    """

    umask: int = 0o022
    protected_symlinks: bool = False
    protected_regular: int = 0
    protected_fifos: int = 0
    security_modules: tuple[str, ...] = ()
    user_namespace: bool = False
    cut_short: bool = False


class Node(Protocol):
    """One object of the file tree, held open.

    What is read through a node, and changed through it, is one and the same
    inode, whatever happens to its name meanwhile. Nothing ever follows a
    symlink. Methods raise OSError as the kernel does.
    """

    @property
    def path(self) -> str:
        """The absolute path by which it was opened."""

    def look(self, *, exact: bool = False) -> Object:
        """The object as it is now; what may not be read is among its ``unknown``.

        What is ``exact`` has its birth in its identity: for what is to be found
        again. A single look has no need of it, and it takes loading.
        """

    def glance(self) -> Glance:
        """What a change looks at, as it is now, with its birth; OSError where a part of its posture cannot be read."""

    def matches(self, posture: Posture, identity: Identity | None = None, links: int = 0) -> Placement | None:
        """Where it is, if a glance now would show exactly this; OSError as from :meth:`glance`.

        ``links`` counts where it is not 0, and for what is no directory. None also where
        that takes longer to tell: a glance tells what there is, and may show the same after all.
        """

    def program(self) -> Program:
        """What execve(2) sees of this regular file, whether anyone may execute it now or not."""

    def beginning(self, most: int) -> bytes | None:
        """The first bytes of what this regular file holds, at most so many; None where a host in a file has them not.

        Raises OSError for what is no regular file, or may not be read.
        """

    def digest(self, most: int) -> tuple[str, int] | None:
        """SHA-256 of what this regular file holds, in hexadecimal, and of how many bytes.

        None where it has more than ``most`` bytes, or somebody has it open for writing (so far as the
        kernel tells), or a host in a file does not know it. Raises OSError for what is no regular file.
        """

    def child(self, name: str) -> Node:
        """Open the entry ``name`` of this directory (``..`` is its parent)."""

    def names(self) -> Iterator[str]:
        """The names in this directory, in no particular order, without ``.`` and ``..``."""

    def change_owner(self, uid: int | None, gid: int | None) -> None:
        """Set owner, group or both, as lchown(2) does."""

    def change_mode(self, mode: int) -> None:
        """Set the twelve mode bits, as chmod(2) does."""

    def change_list(self, acl: AccessList) -> None:
        """Set the access list, as setxattr(2) of it does."""

    def change_default(self, acl: AccessList | None) -> None:
        """Set or remove the default list."""

    def change_capabilities(self, value: FileCapabilities | None) -> None:
        """Set or remove the file capabilities."""

    def change_flags(self, flags: tuple[str, ...]) -> None:
        """Have just these of the flags that limit change, as FS_IOC_SETFLAGS does (ioctl_iflags(2)).

        EOPNOTSUPP where it is neither a file nor a directory, ENOTTY where its file system keeps none.
        """

    def keeps_flags(self) -> bool:
        """Whether its file system keeps such flags, as far as can be told."""

    def copy_up(self) -> None:
        """On an overlay, have the object in the upper layer, nothing of it changed; elsewhere do nothing.

        A change would do that first, and what is copied may be another inode.
        """

    def in_lower_layer(self) -> bool | None:
        """Whether this object, no directory, comes from a lower layer of an overlay; None where that is not known."""

    def close(self) -> None:
        """Let go of the object."""


class Host(Protocol):
    """A machine: the real one, one held in memory, or one as it would be."""

    @property
    def name(self) -> str:
        """What the host is called in messages and in snapshots."""

    @property
    def accounts(self) -> Accounts:
        """The users and groups that names and numbers are looked up in."""

    @property
    def settings(self) -> Settings:
        """What the access rules depend on beyond the file tree."""

    def root(self) -> Node:
        """Open the root directory ``/``; OSError as the kernel has it."""

    def cwd(self) -> str:
        """The absolute path that relative paths start from; OSError where it has been removed."""

    def actor(self) -> Principal:
        """Who acts, when Fiat changes something on this host."""

    def wait_for_clock(self, changed: int) -> None:
        """Return when what changes from now on is stamped later than ``changed`` (nanoseconds since the epoch)."""

    def process(self, pid: int) -> Principal:
        """The running process ``pid`` as the kernel sees it; UnknownAccount if there is none."""

    def seen_by(self, who: Principal) -> Host:
        """The host as ``who`` sees it: with other mounts, or another root directory, for a process that has its own."""

    def view_of(self, pid: int) -> Host:
        """The host as the processes of the container see it that ``pid`` is in: with their mounts and root directory,
        and their accounts, by the numbers that these have here; UnknownAccount if there is no such process."""

    def logins(self) -> Logins:
        """What logins give on this host, as its files are now."""

    def process_umask(self, pid: int) -> int:
        """The umask of the running process ``pid``; UnknownAccount if there is none."""
