"""What a change looks at: as much of an object as it takes to tell whether it is as it was, and no more."""

from typing import NamedTuple

from fiat.core.model.posture import Identity, Object, Placement, Posture


class Glance(NamedTuple):
    """An object as it is now; its fields are those of :class:`Object` and its ``status``, and where it is."""

    identity: Identity
    posture: Posture
    links: int
    changed: int | None
    site: Placement

    def matches(self, posture: Posture, identity: Identity | None, links: int) -> Placement | None:
        """Where it is, if it shows exactly this; ``links`` counts where it is not 0, and for what is no directory."""
        same = self.posture == posture and identity in (None, self.identity)
        return self.site if same and (links in (0, self.links) or posture.directory) else None


def glance_at(found: Object) -> Glance:
    """As much of an object that was looked at; OSError where a part of its posture could not be read."""
    for what, number in found.unknown:
        if what not in _NEEDLESS:
            raise OSError(number, what)
    status = found.status
    return Glance(
        status.identity, found.posture, status.links, status.changed, Placement(found.mount, found.keeps_lists)
    )


_NEEDLESS = ("flags", "first bytes")
"""The kernel itself refuses where one of the flags is set; and what a file holds is not changed."""
