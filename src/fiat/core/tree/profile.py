"""Profiles: what many objects of a tree have in common."""

from typing import NamedTuple

from fiat.core.model.posture import Identity, Mount, Object, Posture, Program, Status


class Profile(NamedTuple):
    """Everything of an object but its name, its inode and its links; the fields are those of :class:`Object`.

    ``filesystem`` is the file system's part of an :class:`Identity`,
    ``device`` as in :class:`Status`. ``mount_point`` tells that something is
    mounted there.
    """

    posture: Posture
    filesystem: str = ""
    device: int = 0
    mount: Mount | None = None
    mount_point: bool = False
    program: Program | None = None
    label: str | None = None
    keeps_lists: bool | None = None
    unknown: tuple[tuple[str, int], ...] = ()
    other_flags: tuple[str, ...] | None = None
    layer: str | None = None
    refused_below: tuple[tuple[int, int], ...] = ()

    @property
    def stays(self) -> bool:
        """Whether it is a directory that cannot be renamed, as :attr:`Object.stays` says."""
        return self.at().stays

    def at(self, path: str = "", inode: int = 0, links: int = 1, birth: int = 0) -> Object:
        """An object with this profile at ``path``; its size and time are not known.

        Without a path it stands at that of the mount, where it is a mount
        point, and nowhere otherwise.
        """
        if not path and self.mount_point and self.mount is not None:
            path = self.mount.point
        return Object(
            path=path,
            posture=self.posture,
            status=Status(Identity(self.filesystem, inode, birth), links, device=self.device),
            mount=self.mount,
            label=self.label,
            program=self.program,
            keeps_lists=self.keeps_lists,
            unknown=self.unknown,
            other_flags=self.other_flags,
            layer=self.layer,
            refused_below=self.refused_below,
        )


def profile_of(found: Object) -> Profile:
    """What ``found`` has in common with others: all but name, inode, links, size and time."""
    return Profile(
        found.posture,
        found.status.identity.filesystem,
        found.status.device,
        found.mount,
        found.mount_point,
        found.program,
        found.label,
        found.keeps_lists,
        found.unknown,
        found.other_flags,
        found.layer,
        found.refused_below,
    )
