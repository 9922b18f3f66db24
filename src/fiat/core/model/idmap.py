"""Numbers of users and groups that are others somewhere else: user_namespaces(7), and ID-mapped mounts
(mount_setattr(2), "ID-mapped mounts")."""

from typing import NamedTuple

UNMAPPED = 0x1FFFFFFFF
"""The owner of what has none on an ID-mapped mount: the number on disk is mapped to no other. Nobody has a number of
more than 32 bits; stat(2) shows the overflow number, mostly 65534, in its place."""

OUTSIDE = 0x2FFFFFFFF
"""The owner of what belongs to somebody whom the user namespace of Fiat does not know; stat(2) shows the same there."""

NO_NUMBERS = (UNMAPPED, OUTSIDE)
"""What no user and no group has for a number; all that can have one are less."""

OVERFLOW = 65_534
"""What stat(2) shows in their place unless it is set otherwise (proc_sys_kernel(5), ``overflowuid``)."""


class NumberMap(NamedTuple):
    """Which numbers inside are which outside: ``extents`` of the first inside, the first outside, and how many.

    Inside is a user namespace, or what is on disk under an ID-mapped mount.
    """

    extents: tuple[tuple[int, int, int], ...] = ()

    def outward(self, number: int) -> int | None:
        """What a number inside is outside; None where it is none there."""
        for inside, outside, count in self.extents:
            if inside <= number < inside + count:
                return outside + number - inside
        return None

    def inward(self, number: int) -> int | None:
        """What a number outside is inside; None where it is none there."""
        for inside, outside, count in self.extents:
            if outside <= number < outside + count:
                return inside + number - outside
        return None


class IdMap(NamedTuple):
    """The numbers of users and those of groups."""

    users: NumberMap
    groups: NumberMap


def parse(text: str) -> NumberMap:
    """The map in the lines of a ``uid_map`` or ``gid_map`` file (user_namespaces(7)); lines of another shape are not
    counted."""
    lines = (line.split() for line in text.split("\n"))
    numbers = [tuple(map(int, fields)) for fields in lines if len(fields) == 3 and all(map(str.isdecimal, fields))]
    return NumberMap(tuple((first, second, count) for first, second, count in numbers))
