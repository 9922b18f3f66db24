"""Whether a file may be given its privilege back: only where nobody who was not to can have changed what it holds.

What shows it are the postures that it has had in between, a digest of its contents from before, and that nobody has
it open for writing: a mapping of a file can be written to long after the file was closed to others. Times show
nothing: whoever owns a file sets that of its contents, and each change of a posture moves the other.
"""

from collections.abc import Callable, Iterable
from contextlib import suppress

from fiat.core.change.history import Intended
from fiat.core.model.host import Host, Node
from fiat.core.model.posture import Identity, Posture
from fiat.core.rules.privilege import hands_on_more_than_the_owner_has, is_privileged, others_could_write
from fiat.core.tree.walk import Handles

LARGEST = 256 * 1024 * 1024
"""Bytes of a file of which there is a digest: anybody can make a file set-id, and of any size."""

_ALL = 2 * 1024 * 1024 * 1024
"""Bytes of all files of one run together."""


class Digests:
    """Digests of what privileged files hold: SHA-256 in hexadecimal, of so many bytes in all.

    One is empty where there is none to be had: where the file may not be read, is larger than is read, or somebody
    has it open for writing, or the file system cannot tell.
    """

    def __init__(self) -> None:
        self._left = _ALL

    def of(self, node: Node) -> str:
        """That of the file that is held open."""
        with suppress(OSError):
            found = node.digest(min(LARGEST, self._left))
            if found is not None:
                self._left -= found[1]
                return found[0]
        return ""

    def at(self, handles: Handles, path: str, identity: Identity) -> str:
        """That of the file at the real ``path``; empty also where that is another object by now."""
        with suppress(OSError):
            node = handles.open(path)
            try:
                return self.of(node) if node.glance().identity.same_as(identity) else ""
            finally:
                node.close()
        return ""


def may_come_back(
    now: Posture, then: Posture, since: Iterable[Posture], digest: str, digest_now: Callable[[], str]
) -> bool:
    """Whether what has the posture ``now``, and had ``then``, may be given all of ``then``, its privilege too.

    ``since`` are the postures that it is known to have had in between, ``digest`` is that of its contents then,
    empty where it is not known; ``digest_now`` is asked where it counts. What has the privilege still need not
    have the same contents.
    """
    if not is_privileged(then):
        return True
    if any(others_could_write(one, then.uid) for one in (now, *since)):
        return False
    if _has_it(now, then):
        return True
    return bool(digest) and not hands_on_more_than_the_owner_has(then) and digest_now() == digest


def _has_it(now: Posture, then: Posture) -> bool:
    """Whether all of the privilege of ``then`` is there."""
    same = (now.uid, now.gid, now.capabilities) == (then.uid, then.gid, then.capabilities)
    return same and not then.mode & ~now.mode & 0o6000


def with_digests(host: Host, intended: Intended) -> Intended:
    """The changes with the digests of privileged files: only on these contents is their privilege given back."""
    privileged = {number for number, change in enumerate(intended.changes) if is_privileged(change.before)}
    if not privileged:
        return intended
    found: dict[int, str] = {}
    digests, handles = Digests(), Handles(host)
    try:
        for place in [place for place, number in enumerate(intended.numbers) if number in privileged]:
            found[place] = digests.at(handles, intended.paths[place], intended.identities[place])
    finally:
        handles.close()
    return intended._replace(digests=found)
