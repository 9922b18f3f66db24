"""Mounts."""

from fiat.core.typed import NamedTuple


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

    @property
    def read_only(self) -> bool:
        """Whether nothing can be written through this mount, or to the file system under it."""
        return "ro" in self.options or "ro" in self.filesystem_options

    @property
    def filesystem_read_only(self) -> bool:
        """Whether the file system under the mount is read-only, not just this mount of it."""
        return "ro" in self.filesystem_options
