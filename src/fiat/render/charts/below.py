"""The picture of a tree: a map in which the area of a directory is as many entries as it holds, its colour how many
people can do something there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.app.howmany import ANYONE, NOT_KNOWN, HowMany
from fiat.core.text import Fields, counted, visible
from fiat.core.tree.summary import Topmost
from fiat.core.tree.survey import Survey
from fiat.render.charts import letters
from fiat.render.charts.canvas import BODY, MARGIN, SMALL, Canvas
from fiat.render.charts.palette import ANYONE as OPEN
from fiat.render.charts.palette import FAINT, PAPER, STEPS
from fiat.render.charts.picture import HEIGHT, WIDTH, Picture
from fiat.render.charts.treemap import Room, rooms, strips

_PANEL = 330.0
_LEAST = 400.0
"""Square pixels of the smallest directory that has a box of its own."""

_NAMED = (58.0, 20.0)
"""The smallest box that has a name in it."""

_BADGE = 17.0


class Leaf(NamedTuple):
    """A box: the entries of one directory itself, or with ``whole`` all under it; ``others`` are as many directories
    that have no room for boxes of their own, put together. ``bands`` are how many entries are in each band.
    """

    place: int
    room: Room
    bands: tuple[int, ...]
    whole: bool
    others: int = 0


def below_picture(found: HowMany, right: str, who: str, about: str) -> Picture:
    """The map, and what is open to anyone: each place numbered on it, and named beside it."""
    survey = found.found.survey
    top = visible(survey.top.path)
    asked = f"Where {who} can {right} in {top}" if who else f"How many can {right} where in {top}"
    canvas = Canvas(asked, [f"{counted(len(survey), 'entry', 'entries')}, {about}; a larger box holds more of them"])
    room = Room(MARGIN, canvas.top, WIDTH - 2 * MARGIN - _PANEL, HEIGHT - canvas.top - 56)
    leaves = boxes(survey, found.band, len(found.names), room)
    opened = list(found.open_to_anyone())
    taken = _draw(canvas, survey, leaves)
    shown = _panel(canvas, found, opened, room)
    marked = _badges(canvas, survey, leaves, [one.place for one in opened[:shown]], taken)
    small = sum(one.others for one in leaves)
    foot = [f"{counted(small, 'small directory', 'small directories')} are drawn together"] if small else []
    if unmarked := shown - marked:
        foot.append(
            f"{counted(unmarked, 'place')} in the list is too small to be marked"
            if unmarked == 1
            else f"{unmarked} places in the list are too small to be marked"
        )
    if foot:
        canvas.top = HEIGHT
        canvas.foot(f"{'; '.join(foot)}. fiat who {top} --below names everything.")
    return canvas.picture(_data(found, right, leaves, opened))


# --- the boxes ---


def boxes(survey: Survey, band: NDArray[np.int8], count: int, room: Room) -> list[Leaf]:
    """The boxes of a tree: they fill the room, no two of them overlap, and their areas are as their entries."""
    tree = _Counted(survey, band, count)
    leaves: list[Leaf] = []
    waiting = [(0, room)]
    while waiting:
        place, here = waiting.pop()
        whole = tree.bands(np.array([place]))
        under = tree.directories_in(place)
        alike = place and np.count_nonzero(whole[1:]) < 2  # then its directories would say nothing that it does not
        sizes = survey.end[under] - under
        large = sizes * (here.area / whole.sum()) >= _LEAST
        if alike or here.area < 2 * _LEAST or not large.any():
            leaves.append(Leaf(place, here, _numbers(whole), True))
            continue
        small = under[~large]
        rest = tree.bands(small)
        own = whole - tree.bands(under)
        parts: list[tuple[int, int, tuple[int, ...], int]] = [(int(own.sum()), place, _numbers(own), 0)]
        parts += [(size, one, (), 0) for size, one in zip(sizes[large].tolist(), under[large].tolist(), strict=True)]
        if len(small):
            parts.append((int(rest.sum()), place, _numbers(rest), len(small)))
        parts.sort(key=lambda part: (-part[0], part[1]))
        for (_, one, bands, others), where in zip(parts, rooms([part[0] for part in parts], here), strict=True):
            if bands:
                leaves.append(Leaf(one, where, bands, False, others))
            else:
                waiting.append((one, where))
    return leaves


class _Counted:
    """How many entries of each band are in any directory of a tree, without looking at each of them."""

    def __init__(self, survey: Survey, band: NDArray[np.int8], count: int) -> None:
        self._end = survey.end
        self._before = np.zeros((count + 1, len(band) + 1), np.int32)
        for row, one in enumerate(range(-1, count)):
            np.cumsum(band == one, out=self._before[row, 1:])
        directories = np.flatnonzero(survey.directories())
        parents = survey.parent[directories]
        order = np.argsort(parents, kind="stable")
        self._directories, self._parents = directories[order], parents[order]

    def directories_in(self, place: int) -> NDArray[np.int64]:
        """The directories that are right in one."""
        begin, end = np.searchsorted(self._parents, (place, place + 1))
        found: NDArray[np.int64] = self._directories[begin:end]
        return found

    def bands(self, places: NDArray[np.int64]) -> NDArray[np.int64]:
        """How many entries of each band, those of none first, are at and under these directories."""
        found: NDArray[np.int64] = (self._before[:, self._end[places]] - self._before[:, places]).sum(1, dtype=np.int64)
        return found


def _numbers(bands: NDArray[np.int64]) -> tuple[int, ...]:
    return tuple(map(int, bands))


# --- what is drawn ---


def _draw(canvas: Canvas, survey: Survey, leaves: Sequence[Leaf]) -> list[Room]:
    """The boxes, and the names that fit into them; where names stand."""
    for leaf in leaves:
        there = [(band - 1, size) for band, size in enumerate(leaf.bands) if size]
        path = visible(survey.path(leaf.place))
        for (band, _), part in zip(there, strips([size for _, size in there], leaf.room), strict=True):
            edge = PAPER if band == ANYONE else None
            canvas.box(*part, _fill(band), edge, striped=band == ANYONE, about=f"{path} {band}")
        canvas.box(*leaf.room, None, "#8a9097", about=f"directory {path}")
    taken: list[Room] = []
    for place, room in _regions(survey, leaves).items():
        canvas.box(*room, None, FAINT, thick=2.5, about=f"region {survey.name(place)}")
        _put_name(canvas, (survey.name(place),), room, taken, f"name {place}", bold=True)
    for leaf in leaves:
        _put_name(canvas, _names(survey, leaf), leaf.room, taken, f"name {leaf.place}")
    return taken


def _regions(survey: Survey, leaves: Sequence[Leaf]) -> dict[int, Room]:
    """The directories in the top that consist of several boxes, the largest first, each with the room of these."""
    parts: dict[int, list[Room]] = {}
    for leaf in leaves:
        place = leaf.place
        while place and survey.parent[place]:
            place = int(survey.parent[place])
        if place:
            parts.setdefault(place, []).append(leaf.room)
    found = {place: _around(rooms) for place, rooms in parts.items() if len(rooms) > 1}
    return dict(sorted(found.items(), key=lambda one: -one[1].area))


def _around(rooms: Sequence[Room]) -> Room:
    x, y = min(room.x for room in rooms), min(room.y for room in rooms)
    right, below = max(room.x + room.width for room in rooms), max(room.y + room.height for room in rooms)
    return Room(x, y, right - x, below - y)


def _put_name(
    canvas: Canvas, names: Sequence[str], room: Room, taken: list[Room], about: str, *, bold: bool = False
) -> None:
    """The longest of the names that fits, in the upper left corner, where no other name is."""
    x, y, width, height = room
    if width < _NAMED[0] or height < _NAMED[1]:
        return
    size = SMALL - 1
    every = [letters.drawable(name) for name in names]
    fitting = (one for one in every if letters.width_of(one, size, bold=bold) <= width - 12)
    text = next(fitting, "") or letters.cut(every[-1], width - 12, size, bold=bold)
    wide = letters.width_of(text, size, bold=bold)
    for line in (0, 1):  # the name of the directory that it is in may stand there
        spot = Room(x + 2, y + 2 + 17 * line, wide + 6, 16)
        if spot.y + spot.height < y + height and not any(_overlap(spot, other) for other in taken):
            canvas.box(*spot, PAPER, about="behind a name")
            canvas.words(spot.x + 3, spot.y + 1, text, size=size, bold=bold, about=about)
            taken.append(spot)
            return


def _names(survey: Survey, leaf: Leaf) -> tuple[str, ...]:
    """What a box is called, in full and ever shorter."""
    if leaf.others:
        more = f"{leaf.others:,} more"
        return f"{more} in {survey.name(leaf.place) or '/'}", more
    top = survey.top.path.rstrip("/")
    path = survey.path(leaf.place)
    end = "" if leaf.whole else "/"
    name = path[len(top) + 1 :] if leaf.place else path.rpartition("/")[2]
    return f"{name}{end}" or "/", f"{name.rpartition('/')[2]}{end}" or "/"


def _fill(band: int) -> str:
    if band < 0:
        return PAPER
    return OPEN if band == ANYONE else "#e6d5ef" if band == NOT_KNOWN else STEPS[band]


def _panel(canvas: Canvas, found: HowMany, opened: Sequence[Topmost], room: Room) -> int:
    """What the colours mean, and the places that are open to anyone; how many of these are named."""
    x, y = WIDTH - MARGIN - _PANEL + 26, canvas.top
    entries = found.entries()
    whole = max(len(found.band), 1)
    for band, name in enumerate(found.names):
        if not name or not (entries[band] or band < NOT_KNOWN):
            continue
        edge = "#ffffff" if band == ANYONE else "#8a9097"
        canvas.box(x, y, 24, 16, _fill(band), edge, striped=band == ANYONE, about="legend")
        canvas.words(x + 34, y, name, size=SMALL, about="legend")
        share = f"{entries[band]:,}{_share(entries[band] / whole)}"
        canvas.words(WIDTH - MARGIN, y, share, size=SMALL, colour=FAINT, anchor="right", about="legend")
        y += 22
    if other := int((found.band < 0).sum()):
        canvas.box(x, y, 24, 16, PAPER, "#8a9097", about="legend")
        canvas.words(x + 34, y, "does not apply", size=SMALL, about="legend")
        canvas.words(WIDTH - MARGIN, y, f"{other:,}", size=SMALL, colour=FAINT, anchor="right", about="legend")
        y += 22
    y += 14
    heading = f"Open to anyone: {counted(len(opened), 'place')}" if opened else "Nothing is open to anyone"
    y = canvas.words(x, y, heading, size=BODY, bold=True, about="open").below + 8
    shown = 0
    for number, one in enumerate(opened, 1):
        if y + 44 > room.y + room.height and number < len(opened):
            canvas.words(x, y, f"and {len(opened) - shown:,} more", size=SMALL, colour=FAINT, about="open")
            break
        canvas.shape("circle", x + 8, y + 8, _BADGE, OPEN, about="open")
        _number(canvas, x + 8, y + 8, number, "open")
        more = f"  {one.paths:,} paths" if one.paths > 1 else ""
        room_left = _PANEL - 26 - 26 - letters.width_of(more, SMALL)
        path = found.found.survey.path(one.place)
        placed = canvas.words(x + 24, y, path, size=SMALL, mono=True, most=room_left, about=f"open {number}")
        canvas.words(placed.right, y, more, size=SMALL, colour=FAINT, about="open")
        y += 22
        shown += 1
    return shown


def _badges(canvas: Canvas, survey: Survey, leaves: Sequence[Leaf], places: Sequence[int], taken: list[Room]) -> int:
    """A number on the map for each place; how many there was room for."""
    of_directory: dict[int, list[Leaf]] = {}
    for leaf in leaves:
        of_directory.setdefault(leaf.place, []).append(leaf)
    used: dict[int, int] = {}
    marked = 0
    for number, place in enumerate(places, 1):
        leaf = _leaf_of(survey, of_directory, place)
        x, y, width, height = leaf.room
        at = used.get(id(leaf), 0)
        spot = Room(x + width - (at + 1) * (_BADGE + 2) - 2, y + height - _BADGE - 3, _BADGE, _BADGE)
        if spot.x < x + 1 or spot.y < y + 1 or any(_overlap(spot, other) for other in taken):
            continue
        used[id(leaf)] = at + 1
        centre = spot.x + _BADGE / 2, spot.y + _BADGE / 2
        canvas.shape("circle", *centre, _BADGE + 3, PAPER, about="badge")
        canvas.shape("circle", *centre, _BADGE, OPEN, about=f"badge {number}")
        _number(canvas, *centre, number, f"badge {number}")
        marked += 1
    return marked


def _leaf_of(survey: Survey, of_directory: dict[int, list[Leaf]], place: int) -> Leaf:
    """The box that an entry is in."""
    small = 0
    while place not in of_directory:
        place = int(survey.parent[place])
        small += 1
    found = of_directory[place]
    return found[-1] if small > 1 and len(found) > 1 else found[0]


def _overlap(one: Room, other: Room) -> bool:
    across = one.x < other.x + other.width and other.x < one.x + one.width
    return across and one.y < other.y + other.height and other.y < one.y + one.height


def _data(found: HowMany, right: str, leaves: Sequence[Leaf], opened: Sequence[Topmost]) -> Fields:
    survey = found.found.survey
    return {
        "directory": survey.top.path,
        "right": right,
        "bands": [
            {"name": name, "entries": entries}
            for name, entries in zip(found.names, found.entries(), strict=True)
            if name
        ],
        "boxes": [
            {
                "path": survey.path(leaf.place),
                **dict(zip(("x", "y", "width", "height"), leaf.room, strict=True)),
                "value": sum(leaf.bands),
                "whole": leaf.whole,
                "directories_together": leaf.others,
                "entries": {
                    name: size for name, size in zip(("does not apply", *found.names), leaf.bands, strict=True) if size
                },
            }
            for leaf in leaves
        ],
        "open_to_anyone": [{"path": survey.path(one.place), "paths": one.paths} for one in opened],
    }


def _share(part: float) -> str:
    """How much of the whole that is, beside a number; nothing where it is nothing."""
    return "" if not part else f"  ({part:.0%})" if part >= 0.005 else "  (<1%)"


def _number(canvas: Canvas, x: float, y: float, number: int, about: str) -> None:
    """A number in a badge around this point."""
    canvas.words(x, y - 6, str(number), size=10, colour=PAPER, bold=True, anchor="middle", about=about)
