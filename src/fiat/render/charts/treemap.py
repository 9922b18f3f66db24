"""Rectangles whose areas are as the numbers they stand for, as square as can be (squarified treemaps; M. Bruls,
K. Huizing and J. van Wijk, 2000)."""

from collections.abc import Sequence
from typing import NamedTuple


class Room(NamedTuple):
    """A rectangle."""

    x: float
    y: float
    width: float
    height: float

    @property
    def area(self) -> float:
        """In square pixels."""
        return self.width * self.height


def rooms(sizes: Sequence[float], room: Room) -> list[Room]:
    """Rectangles for ``sizes``, which are positive and descend, that fill ``room``; in their order."""
    whole = sum(sizes)
    if not whole:
        return []
    scale = room.area / whole
    areas = [size * scale for size in sizes]
    found: list[Room] = []
    at = 0
    while at < len(areas):
        side = min(room.width, room.height)
        row, total = [areas[at]], areas[at]
        at += 1
        while at < len(areas) and _worst([*row, areas[at]], total + areas[at], side) <= _worst(row, total, side):
            row.append(areas[at])
            total += areas[at]
            at += 1
        last = at == len(areas)
        placed, room = _put(row, total, room, last=last)
        found += placed
    return found


def _worst(row: Sequence[float], total: float, side: float) -> float:
    """How far from a square the worst of a row is, along a side of this length."""
    if not side or not total:
        return 1.0
    return max(side * side * row[0] / (total * total), total * total / (side * side * row[-1]))


def _put(row: Sequence[float], total: float, room: Room, *, last: bool) -> tuple[list[Room], Room]:
    """A row along the shorter side of the room, and what is left of it; the last one takes all."""
    placed = []
    if room.width >= room.height:
        thick = room.width if last else total / room.height
        y = room.y
        for area in row:
            high = room.height * area / total
            placed.append(Room(room.x, y, thick, high))
            y += high
        return placed, Room(room.x + thick, room.y, room.width - thick, room.height)
    thick = room.height if last else total / room.width
    x = room.x
    for area in row:
        wide = room.width * area / total
        placed.append(Room(x, room.y, wide, thick))
        x += wide
    return placed, Room(room.x, room.y + thick, room.width, room.height - thick)


def strips(sizes: Sequence[float], room: Room) -> list[Room]:
    """Strips for ``sizes``, across the longer side of ``room``."""
    whole = sum(sizes)
    found, done = [], 0.0
    for size in sizes:
        if room.width >= room.height:
            found.append(Room(room.x + room.width * done / whole, room.y, room.width * size / whole, room.height))
        else:
            found.append(Room(room.x, room.y + room.height * done / whole, room.width, room.height * size / whole))
        done += size
    return found
