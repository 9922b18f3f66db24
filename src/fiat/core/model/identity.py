"""What tells one object from every other, now and later."""

from typing import NamedTuple


class Identity(NamedTuple):
    """An inode: of which file system, its number, and when it was made.

    ``filesystem`` names the file system by an identifier of its own, which
    outlives a mount and a restart of the machine, and not by the number of its
    device; it is empty where that is not known. ``birth`` is in nanoseconds since
    the epoch, 0 where it is not known: a new object may be given the inode
    number of one that is gone, and then only the birth tells them apart.
    """

    filesystem: str
    inode: int
    birth: int = 0

    def same_as(self, other: "Identity") -> bool:
        """Whether both may be one object: births, and file systems, count where both are known."""
        if self.inode != other.inode:
            return False
        if self.filesystem != other.filesystem and self.filesystem and other.filesystem:
            return False
        return self.birth == other.birth or not (self.birth and other.birth)
