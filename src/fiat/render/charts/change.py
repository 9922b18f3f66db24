"""The picture of a change: who gains and who loses which right, and what is other than before, side by side."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from fiat.core.model import right as rights_
from fiat.core.model.right import Right
from fiat.core.text import Fields, counted
from fiat.render.changes import kept_fields, kinds_of, people_words, where_of
from fiat.render.charts import letters
from fiat.render.charts.canvas import BODY, MARGIN, SMALL, Canvas
from fiat.render.charts.palette import FAINT, GAIN, INK, LOSS, PALE, TINT, sign_of
from fiat.render.charts.picture import HEIGHT, WIDTH, Picture
from fiat.render.charts.treemap import Room
from fiat.render.shownchange import ShownChange

_PEOPLE = 380.0
_RIGHT = 100.0
"""How wide the column of a right is."""

_ROW = 44.0
_GAINED = "#e3f0f9"
_APART = 24.0
"""How far before and after stand from the middle of a column."""

_LEAST = 150.0
"""Room that is left for what is other than before."""


class _Row(NamedTuple):
    """People who gain and lose the same: of each right on how many paths."""

    people: tuple[str, ...]
    gains: tuple[tuple[str, int], ...]
    losses: tuple[tuple[str, int], ...]


def change_picture(found: ShownChange, about: str) -> Picture:
    """A row for people who gain and lose the same, a column for each right; below it what changes, before and after."""
    canvas = Canvas(found.title, [*found.said, about])
    rows = _rows(found)
    columns = _columns(rows)
    shown_rows, left_people = _people(canvas, found, rows, columns)
    shown_kinds, left_kinds = _what_changes(canvas, found)
    left = [text for text in (left_people, left_kinds) if text]
    if left:
        canvas.foot(f"Not shown: {' and '.join(left)}.")
    return canvas.picture(_data(found, rows, columns, shown_rows, shown_kinds))


def _rows(found: ShownChange) -> list[_Row]:
    """Those who gain or lose: anyone else first, then the most people."""
    both: dict[str, tuple[dict[str, int], dict[str, int]]] = {}
    for place, shifts in enumerate((found.gains, found.losses)):
        for who, right, paths, apart in shifts:
            if apart:
                both.setdefault(who, ({}, {}))[place][right] = paths
    alike: dict[tuple[tuple[tuple[str, int], ...], ...], list[str]] = {}
    for who, sides in both.items():
        alike.setdefault(tuple(tuple(sorted(side.items())) for side in sides), []).append(who)
    rows = [_Row(tuple(people), gains, losses) for (gains, losses), people in alike.items()]
    return sorted(rows, key=lambda row: ("anyone-else" not in row.people, -len(row.people), row.people))


def _columns(rows: Sequence[_Row]) -> list[Right]:
    """The rights that somebody gains or loses, as many as there is room for."""
    named = {right for row in rows for right, _ in (*row.gains, *row.losses)}
    most = int((WIDTH - 2 * MARGIN - _PEOPLE) // _RIGHT)
    return [right for right in rights_.ALL if right.name in named][:most]


def _people(canvas: Canvas, found: ShownChange, rows: Sequence[_Row], columns: Sequence[Right]) -> tuple[int, str]:
    """The table of those who gain and lose; how many rows are shown, and in words what is not."""
    if not rows:
        canvas.words(MARGIN, canvas.top, "Nobody gains, and nobody loses.", bold=True, about="nobody")
        canvas.top += 34
        return 0, ""
    left = MARGIN + _PEOPLE
    canvas.words(MARGIN, canvas.top, "who", size=SMALL, colour=FAINT, about="heading")
    for at, right in enumerate(columns):
        middle, name = left + (at + 0.5) * _RIGHT, right.name
        canvas.words(middle, canvas.top, name, size=11, bold=True, anchor="middle", about=f"column {name}")
        for x, text in ((middle - _APART, "before"), (middle + _APART, "after")):
            canvas.words(x, canvas.top + 16, text, size=10, colour=FAINT, anchor="middle", about="heading")
    canvas.top += 32
    end = left + len(columns) * _RIGHT
    canvas.rule(canvas.top, right=end)
    room = HEIGHT - _LEAST - 60 - canvas.top
    most = len(rows) if len(rows) * _ROW <= room else max(int(room // _ROW), 1)
    for number, row in enumerate(rows[:most]):
        _people_row(canvas, found, number, row, columns, left)
        canvas.rule(canvas.top, right=end)
    canvas.top += 16
    unseen = sum(len(row.people) for row in rows[most:])
    return most, f"{counted(unseen, 'user or group', 'users and groups')} who gain or lose" if unseen else ""


def _people_row(
    canvas: Canvas, found: ShownChange, number: int, row: _Row, columns: Sequence[Right], left: float
) -> None:
    top, bold = canvas.top, "anyone-else" in row.people
    words = letters.drawable(people_words(row.people, found.accounts, found.unlisted))
    lines = letters.wrapped(words, _PEOPLE - 16, SMALL, bold=bold)
    if len(lines) > 2:
        lines = [lines[0], letters.cut(" ".join(lines[1:]), _PEOPLE - 16, SMALL, bold=bold)]
    first = top + (_ROW - len(lines) * 16) / 2
    for line, text in enumerate(lines):
        canvas.words(MARGIN, first + line * 16, text, size=SMALL, bold=bold, about=f"row {number}")
    gains, losses = dict(row.gains), dict(row.losses)
    for at, right in enumerate(columns):
        x = left + at * _RIGHT
        about = f"cell {number} {right.name}"
        told = [
            (paths, gained)
            for paths, gained in ((gains.get(right.name), True), (losses.get(right.name), False))
            if paths is not None
        ]
        if not told:
            canvas.shape("dot", x + _RIGHT / 2, top + _ROW / 2, 3, PALE, about=f"same {about}")
        high = (_ROW - 6) / max(len(told), 1)
        for place, (paths, gained) in enumerate(told):
            _shift(canvas, Room(x + 3, top + 3 + place * high, _RIGHT - 6, high), right, paths, about, gained=gained)
    canvas.top += _ROW


def _shift(canvas: Canvas, room: Room, right: Right, paths: int, about: str, *, gained: bool) -> None:
    """What people gain, or lose, of one right: its sign before, and after, and on how many paths."""
    fill, edge = (_GAINED, GAIN) if gained else (TINT, LOSS)
    about = f"{'gains' if gained else 'loses'} {about}"
    canvas.box(*room, fill, edge, about=about)
    middle, low = room.x + room.width / 2, room.height < _ROW / 2
    sign, y = sign_of(right), room.y + (room.height / 2 if low else 12)
    for x, has in ((middle - _APART, not gained), (middle + _APART, gained)):
        if has:
            canvas.shape(sign.form, x, y, 9 if low else 12, sign.colour, about=about)
        else:
            canvas.shape("dot", x, y, 3.5, FAINT, about=about)
    number = f"{'+' if gained else '−'}{f'{paths:,}' if low else counted(paths, 'path')}"
    canvas.words(middle, room.y + (4 if low else 21), number, size=10, anchor="middle", about=about)


def _what_changes(canvas: Canvas, found: ShownChange) -> tuple[int, str]:
    """What is other than before, kind by kind; how many kinds are shown, and in words what is not."""
    kinds = kinds_of(found.changes, found.accounts)
    if not kinds:
        return 0, ""
    columns = (MARGIN + 20.0, MARGIN + 220.0, MARGIN + 640.0)
    for x, text in zip(columns, ("", "before", "after"), strict=True):
        canvas.words(x, canvas.top, text, size=SMALL, colour=FAINT, about="heading")
    canvas.words(MARGIN, canvas.top, "What changes", size=BODY, bold=True, about="heading")
    canvas.top += 24
    shown = 0
    for (kind, differences), (count, examples) in kinds:
        lines = where_of(kind, count, examples)
        high = (len(lines) + len(differences)) * 17 + 6
        if canvas.top + high > HEIGHT - 40:
            break
        for line in lines:
            canvas.words(MARGIN, canvas.top, line, size=SMALL, mono=True, most=WIDTH - 2 * MARGIN, about="where")
            canvas.top += 17
        for what, before, after in differences:
            rooms = (190.0, 405.0, WIDTH - MARGIN - columns[2])
            for x, text, room, colour in zip(columns, (what, before, after), rooms, (FAINT, FAINT, INK), strict=True):
                canvas.words(
                    x, canvas.top, text, size=SMALL, mono=x > columns[0], colour=colour, most=room, about="difference"
                )
            canvas.top += 17
        canvas.top += 6
        shown += 1
    unseen = kinds[shown:]
    paths = sum(count for _, (count, _) in unseen)
    return shown, f"{counted(len(unseen), 'kind')} of change, of {counted(paths, 'path')}" if unseen else ""


def _data(
    found: ShownChange, rows: Sequence[_Row], columns: Sequence[Right], shown_rows: int, shown_kinds: int
) -> Fields:
    return {
        "rows": [{"people": list(row.people), "gains": dict(row.gains), "losses": dict(row.losses)} for row in rows],
        "columns": [right.name for right in columns],
        "gains": [kept_fields(shift) for shift in found.gains],
        "losses": [kept_fields(shift) for shift in found.losses],
        "changes": [
            {
                "kind": kind.value,
                "paths": count,
                "examples": list(examples),
                "differs": [{"what": what, "before": before, "after": after} for what, before, after in differences],
            }
            for (kind, differences), (count, examples) in kinds_of(found.changes, found.accounts)
        ],
        "shown": {"rows": shown_rows, "changes": shown_kinds},
    }
