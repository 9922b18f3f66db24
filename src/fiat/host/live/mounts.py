"""The mounts of this host, from ``/proc/self/mountinfo`` (proc(5))."""

import os
import re
from typing import NamedTuple

from fiat.core.model.posture import Mount


def mounts_now() -> dict[int, Mount]:
    """The mounts that this process sees, by mount id."""
    with open("/proc/self/mountinfo", "rb") as file:
        return read_mounts(os.fsdecode(file.read()))


_OPTIONS = ((1, "ro"), (2, "nosuid"), (4, "nodev"), (8, "noexec"), (0x2000, "nosymfollow"))
"""Bits of statvfs(3), ``f_flag``; the last is statfs(2)'s ST_NOSYMFOLLOW."""


def mount_at(fd: int) -> Mount:
    """The mount that a root directory is on, where that is not listed: above the directory nothing is seen.

    Whether the mount is read-only or the file system cannot be told apart there.
    """
    bits = os.fstatvfs(fd).f_flag
    options = tuple(name for bit, name in _OPTIONS if bits & bit)
    return Mount("/", "unknown", options if "ro" in options else ("rw", *options))


def read_mounts(text: str) -> dict[int, Mount]:
    """The mounts in the text of a mountinfo file, by mount id."""
    mounts = {}
    places = {}
    for line in text.split("\n"):  # to the kernel nothing else ends a line
        fields = line.split(" ")
        try:
            end = fields.index("-", 6)
            number = int(fields[0])
            mounts[number] = Mount(
                point=_unescaped(fields[4]),
                type=fields[end + 1],
                options=tuple(fields[5].split(",")),
                filesystem_options=tuple(map(_unescaped, fields[end + 3].split(","))),
                root=_unescaped(fields[3]),
            )
            places[number] = _Place(int(fields[1]), fields[2], _unescaped(fields[3]).rstrip("/"))
        except (ValueError, IndexError):
            continue  # a line of another shape says nothing we could use
    return _with_beside(_with_covered(mounts, places), places)


class _Place(NamedTuple):
    """Where a mount is: on which other one, and what of which file system it shows (``root``, without a last slash)."""

    parent: int
    device: str
    root: str


def _with_covered(mounts: dict[int, Mount], places: dict[int, _Place]) -> dict[int, Mount]:
    """The mounts with the paths on them where another mount of the same file system has something mounted."""
    by_device: dict[str, list[int]] = {}
    for number, place in places.items():
        by_device.setdefault(place.device, []).append(number)
    covered: dict[int, list[str]] = {}
    for number, place in places.items():
        above = places.get(place.parent)
        if above is None or len(by_device[above.device]) < 2:
            continue
        # the directory that is covered, as its file system calls it
        inside = above.root + _below(mounts[number].point, mounts[place.parent].point)
        for other in by_device[above.device]:
            if other != place.parent and f"{inside}/".startswith(f"{places[other].root}/"):
                point = mounts[other].point.rstrip("/")
                covered.setdefault(other, []).append((point + inside.removeprefix(places[other].root)) or "/")
    return mounts | {number: mounts[number]._replace(covered=tuple(paths)) for number, paths in covered.items()}


def _with_beside(mounts: dict[int, Mount], places: dict[int, _Place]) -> dict[int, Mount]:
    """The mounts with the others that show a part of the same file system."""
    by_device: dict[str, list[int]] = {}
    for number, place in places.items():
        by_device.setdefault(place.device, []).append(number)
    found = dict(mounts)
    for numbers in by_device.values():
        for number in numbers if len(numbers) > 1 else ():
            beside = (_common(mounts, places, number, other) for other in numbers if other != number)
            found[number] = mounts[number]._replace(beside=tuple(one for one in beside if one is not None))
    return found


def _common(
    mounts: dict[int, Mount], places: dict[int, _Place], number: int, other: int
) -> tuple[str, str, str] | None:
    """The point of the ``other`` mount, and the directories of either that are the same; None where nothing is."""
    one, two = places[number].root, places[other].root
    here, there = mounts[number].point.rstrip("/"), mounts[other].point.rstrip("/")
    if f"{two}/".startswith(f"{one}/"):
        return mounts[other].point, here + two.removeprefix(one), there
    if one.startswith(f"{two}/"):
        return mounts[other].point, here, there + one.removeprefix(two)
    return None


def _below(path: str, top: str) -> str:
    """``path`` from ``top`` on; empty for the same."""
    return path.removeprefix(top.rstrip("/")).rstrip("/")


def _unescaped(text: str) -> str:
    r"""Undo the ``\040`` by which mountinfo writes space, tab, newline and backslash."""
    if "\\" not in text:
        return text
    return re.sub(r"\\([0-7]{3})", lambda match: chr(int(match[1], 8)), text)
