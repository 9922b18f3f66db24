"""Mounts."""

from typing import NamedTuple


class Mount(NamedTuple):
    """One mount, as proc(5) describes ``/proc/PID/mountinfo``.

    ``options`` are those of the mount, ``filesystem_options`` those of the
    file system under it, which every mount of it shares. ``covered`` are the
    paths on it where nothing is mounted, but where another mount of the same
    file system has something mounted: the kernel keeps such names in use.
    """

    point: str
    type: str
    options: tuple[str, ...] = ("rw",)
    filesystem_options: tuple[str, ...] = ("rw",)
    covered: tuple[str, ...] = ()
    beside: tuple[tuple[str, str, str], ...] = ()

    @property
    def read_only(self) -> bool:
        """Whether nothing can be written through this mount, or to the file system under it."""
        return "ro" in self.options or "ro" in self.filesystem_options

    @property
    def filesystem_read_only(self) -> bool:
        """Whether the file system under the mount is read-only, not just this mount of it."""
        return "ro" in self.filesystem_options

    def elsewhere(self, path: str) -> list[str]:
        """The paths by which other mounts show what is at ``path`` on this one, what may be mounted over it aside."""
        return [
            there + path.removeprefix(here) or "/"
            for _, here, there in self.beside
            if path == here or path.startswith(f"{here}/")
        ]

    def shown_below(self, path: str) -> list[str]:
        """The mount points of other mounts that show a part of what is below ``path`` on this one."""
        top = path.rstrip("/")
        return [point for point, here, _ in self.beside if here.startswith(f"{top}/")]
