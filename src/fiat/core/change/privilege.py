"""Whether a file may be given its privilege back: only where nobody who was not to can have changed what it holds.

What shows it are the postures that it has had in between, a digest of its contents from before, and that nobody has
it open for writing: a mapping of a file can be written to long after the file was closed to others. Times show
nothing: whoever owns a file sets that of its contents, and each change of a posture moves the other.
"""

from collections.abc import Iterable
from contextlib import suppress

from fiat.core.model.host import Node
from fiat.core.model.posture import Posture
from fiat.core.rules.privilege import hands_on_more_than_the_owner_has, is_privileged, others_could_write

LARGEST = 256 * 1024 * 1024
"""Bytes of a file of which there is a digest: anybody can make a file set-id, and of any size."""

_ALL = 2 * 1024 * 1024 * 1024
"""Bytes of all files of one run together."""


class Digests:
    """Digests of privileged files, of so many bytes in all."""

    def __init__(self) -> None:
        self._left = _ALL

    def of(self, node: Node) -> str:
        """SHA-256 of what the file holds, in hexadecimal; empty where there is none to be had.

        That is where it may not be read, where it is larger than is read of all of them, or where
        somebody has it open for writing.
        """
        with suppress(OSError):
            found = node.digest(min(LARGEST, self._left))
            if found is not None:
                self._left -= found[1]
                return found[0]
        return ""

    def unchanged(self, node: Node, now: Posture, then: Posture, since: Iterable[Posture], digest: str) -> bool:
        """Whether what has the posture ``now``, and had ``then``, may be given all of ``then`` back.

        ``since`` are the postures that it is known to have had in between; ``digest`` is that of its contents at
        the time, empty where it is not known. What has the privilege still need not be the same.
        """
        if not is_privileged(then):
            return True
        if any(others_could_write(one, then.uid) for one in (now, *since)):
            return False
        if _has_it(now, then):
            return True
        return bool(digest) and not hands_on_more_than_the_owner_has(then) and self.of(node) == digest


def _has_it(now: Posture, then: Posture) -> bool:
    """Whether all of the privilege of ``then`` is there."""
    same = (now.uid, now.gid, now.capabilities) == (then.uid, then.gid, then.capabilities)
    return same and not then.mode & ~now.mode & 0o6000
