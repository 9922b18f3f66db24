"""The picture of what a host was like at several times: how many can do what is asked for, dangers, expectations."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from fiat.app.overtime import Moment
from fiat.core.text import Fields, counted, several, visible
from fiat.render.charts import letters
from fiat.render.charts.canvas import BODY, MARGIN, SMALL, Canvas
from fiat.render.charts.palette import FAINT, INK, LINES, LOSS, PALE, RULE
from fiat.render.charts.picture import FORMS, HEIGHT, WIDTH, Picture
from fiat.render.charts.treemap import Room

_AXIS, _NAMES = 56.0, 300.0
_LINE = 16.0
_MOST = len(LINES)


class _Series(NamedTuple):
    """One line: at each moment a value, None where there is none; ``top`` marks what is more than any number."""

    name: str
    values: tuple[int | None, ...]
    top: tuple[bool, ...]


def over_time_picture(host: str, moments: Sequence[Moment], paths: Sequence[str], about: str) -> Picture:
    """Who can, above; dangers and broken expectations, below; both along the same time."""
    first, last = _day(moments[0].taken), _day(moments[-1].taken)
    span = first if first == last else f"{first} to {last}"
    canvas = Canvas(f"{host} over time: {span}", [f"{counted(len(moments), 'snapshot')}, a mark each{about}"])
    people, risks = _people(moments), _risks(moments)
    looked = f"; looked for in {several(map(visible, paths), 'paths', 2)}" if paths else ""
    panels = [
        (title, series)
        for title, series in ((_title(paths), people), (f"Dangers and broken expectations{looked}", risks))
        if series
    ]
    room = HEIGHT - canvas.top - 64
    hidden = 0
    for number, (title, series) in enumerate(panels):
        high = room / len(panels)
        where = Room(MARGIN + _AXIS, canvas.top + number * high + 30, WIDTH - 2 * MARGIN - _AXIS - _NAMES, high - 62)
        canvas.words(MARGIN, where.y - 28, title, size=BODY, bold=True, about="panel")
        hidden += max(len(series) - _MOST, 0)
        _panel(canvas, where, moments, series[:_MOST])
    if hidden:
        canvas.top = HEIGHT
        canvas.foot(f"Not shown: {counted(hidden, 'more line')}; ask about fewer paths or rights.")
    return canvas.picture(_data(host, moments))


def _title(paths: Sequence[str]) -> str:
    return f"Users who can, root aside{f': {visible(paths[0])}' if len(paths) == 1 else ''}"


def _people(moments: Sequence[Moment]) -> list[_Series]:
    keys = list(dict.fromkeys(key for moment in moments for key in moment.can))
    paths = {path for path, _ in keys}
    found = []
    for path, right in keys:
        answers = [moment.can.get((path, right)) for moment in moments]
        name = f"{right.name} {path}" if len(paths) > 1 else right.name
        values = tuple(None if one is None else one.users for one in answers)
        found.append(_Series(name, values, tuple(one is not None and one.anyone for one in answers)))
    return found


def _risks(moments: Sequence[Moment]) -> list[_Series]:
    lines = (
        ("dangers", tuple(moment.dangers for moment in moments)),
        ("broken expectations", tuple(moment.broken for moment in moments)),
    )
    never = (False,) * len(moments)
    return [_Series(name, values, never) for name, values in lines if any(value is not None for value in values)]


# --- a panel ---


def _panel(canvas: Canvas, room: Room, moments: Sequence[Moment], series: Sequence[_Series]) -> None:
    """Axes, lines, and the names of these at their ends, none over another."""
    counts = (pair for one in series for pair in zip(one.values, one.top, strict=True))
    most = max([value for value, is_top in counts if value is not None and not is_top], default=0)
    any_top = any(any(one.top) for one in series)
    low, bottom = room.y + 22 if any_top else room.y, room.y + room.height
    step = _step(most)
    top = max(-(-most // step) * step, step)

    def down(value: int | None, is_top: bool) -> float | None:
        if is_top:
            return room.y
        return None if value is None else bottom - (bottom - low) * value / top

    for value in range(0, top + 1, step):
        y = bottom - (bottom - low) * value / top
        canvas.line([(room.x, y), (room.x + room.width, y)], RULE, about="grid")
        canvas.words(room.x - 10, y - 7, f"{value:,}", size=SMALL, colour=FAINT, anchor="right", about="axis")
    if any_top:
        canvas.line([(room.x, room.y), (room.x + room.width, room.y)], LOSS, dashed=True, about="grid")
        canvas.words(room.x - 10, room.y - 7, "anyone", size=SMALL, colour=LOSS, anchor="right", about="axis")
    _dates(canvas, room, moments)
    ends: list[_End] = []
    for number, one in enumerate(series):
        points = [
            (x, down(value, is_top))
            for x, value, is_top in zip(_across(moments, room), one.values, one.top, strict=True)
        ]
        _draw_line(canvas, one.name, number, points)
        end = points[-1][1]
        now = "anyone" if one.top[-1] else "not there" if one.values[-1] is None else f"{one.values[-1]:,}"
        ends.append(_End(room.y + room.height if end is None else end, f"{one.name}: {now}", LINES[number]))
    _name_ends(canvas, room, ends)


def _draw_line(canvas: Canvas, name: str, number: int, points: Sequence[tuple[float, float | None]]) -> None:
    """A line through what there is, with a mark at each moment; broken where there is nothing."""
    colour, form = LINES[number], FORMS[number % 4]
    begun: list[tuple[float, float]] = []
    for x, y in [*points, (0.0, None)]:
        if y is not None:
            begun.append((x, y))
            continue
        if len(begun) > 1:
            canvas.line(begun, colour, thick=2.2, dashed=bool(number % 2), about=f"line {name}")
        begun = []
    for at, (x, y) in enumerate(points):
        if y is not None:
            canvas.shape(form, x, y, 12 - 1.4 * number, colour, filled=number < 4, about=f"value {name} {at}")


class _End(NamedTuple):
    """The end of a line: how far down it is, and what is written beside it."""

    y: float
    text: str
    colour: str


def _name_ends(canvas: Canvas, room: Room, ends: Sequence[_End]) -> None:
    """The names beside the ends of the lines, moved apart where they would stand over each other."""
    high = _LINE + 2
    found = sorted(ends)
    downs: list[float] = []
    for end in found:
        downs.append(max(end.y - _LINE / 2, downs[-1] + high if downs else room.y - _LINE))
    lowest = room.y + room.height - _LINE / 2
    for at in range(len(downs) - 1, -1, -1):  # what would stand below the panel stands above the next one
        downs[at] = min(downs[at], lowest - (len(downs) - 1 - at) * high)
    for y, end in zip(downs, found, strict=True):
        x = room.x + room.width + 14
        canvas.words(x, y, end.text, size=SMALL, colour=end.colour, most=_NAMES - 16, about="end")


def _across(moments: Sequence[Moment], room: Room) -> list[float]:
    first, last = moments[0].taken, moments[-1].taken
    whole = (last - first).total_seconds()
    if not whole:
        return [room.x + room.width / 2] * len(moments)
    return [room.x + 8 + (room.width - 16) * (one.taken - first).total_seconds() / whole for one in moments]


def _dates(canvas: Canvas, room: Room, moments: Sequence[Moment]) -> None:
    """The times of snapshots along the axis, as many as there is room for."""
    y = room.y + room.height
    canvas.line([(room.x, y), (room.x + room.width, y)], PALE, about="axis")
    short = moments[-1].taken - moments[0].taken < timedelta(days=2)
    right = room.x - 100
    for x, one in zip(_across(moments, room), moments, strict=True):
        text = one.taken.strftime("%H:%M") if short else _day(one.taken)
        wide = letters.width_of(text, SMALL)
        if x - wide / 2 < right + 14 and one is not moments[0]:
            continue
        canvas.line([(x, y), (x, y + 4)], INK, about="tick")
        right = canvas.words(x, y + 6, text, size=SMALL, colour=FAINT, anchor="middle", about="date").right


def _day(taken: datetime) -> str:
    return taken.strftime("%Y-%m-%d")


def _step(most: int) -> int:
    """How far apart the lines of the grid are: 1, 2 or 5 times a power of ten, about five of them."""
    size = 1
    while True:
        for step in (size, 2 * size, 5 * size):
            if most <= 5 * step:
                return step
        size *= 10


def _data(host: str, moments: Sequence[Moment]) -> Fields:
    return {
        "host": host,
        "moments": [
            {
                "taken": moment.taken.isoformat(),
                "snapshot": moment.snapshot,
                "can": [
                    {
                        "path": path,
                        "right": right.name,
                        "users": None if one is None else one.users,
                        "anyone_else": None if one is None else one.anyone,
                        "not_known": None if one is None else one.open,
                    }
                    for (path, right), one in moment.can.items()
                ],
                "dangers": moment.dangers,
                "broken": moment.broken,
                "unknown": moment.unknown,
            }
            for moment in moments
        ],
    }
