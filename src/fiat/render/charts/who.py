"""The picture of who can do what with some paths: a row for each path, a column for people who are alike."""

from __future__ import annotations

from collections.abc import Sequence

from fiat.app.peoplebypaths import Cell, People, PeopleByPaths, Place, slots
from fiat.app.question import Question
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import letters as mode_letters
from fiat.core.model.mode import octal
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal
from fiat.core.model.right import EXECUTE, TRAVERSE
from fiat.core.text import Fields, counted
from fiat.core.words import naming
from fiat.core.words.who import Asked
from fiat.render.charts.canvas import BODY, MARGIN, SMALL, Canvas
from fiat.render.charts.palette import FAINT, INK, LOSS, PALE, TINT, sign_of
from fiat.render.charts.picture import HEIGHT, WIDTH, Picture

_LABELS = 400.0
_NARROWEST, _WIDEST = 86.0, 160.0
_NAMES = 6
"""Names that stand above a column before the rest is counted."""

_LINE = 17.0
_FOOT = 84.0


def who_picture(found: PeopleByPaths, question: Question, about: str) -> Picture:
    """Rows and columns as ``found`` has them, as many as there is room for; the rest is counted."""
    return _Table(found, question, about).picture()


class _Table:
    def __init__(self, found: PeopleByPaths, question: Question, about: str) -> None:
        self.found = found
        self.slots = slots(question)
        self.accounts = question.asked_of.accounts
        paths = sum(map(len, found.rows))
        what = f"with {counted(paths, 'path')}" if paths > 1 else f"with {found.rows[0][0].path}"
        rights = ", ".join("/".join(dict.fromkeys(right.name for right in slot)) for slot in question.asked)
        title = f"Who can {rights}: {counted(paths, 'path')}" if rights and paths > 1 else f"Who can do what {what}"
        title = f"Who can {rights} {found.rows[0][0].path}" if rights and paths == 1 else title
        self.canvas = Canvas(title, [f"{about}. A column is for people who may do the same with all that is shown."])
        room = WIDTH - 2 * MARGIN - _LABELS
        most = int(room // max(_NARROWEST, 24 * len(self.slots)))
        self.columns = self._chosen(most)
        self.wide = min(room / len(self.columns), _WIDEST)
        self.left = MARGIN + _LABELS
        self.shown = 0

    def _chosen(self, most: int) -> list[int]:
        """The columns that are shown: the usual one, and those that differ most from it last, as they stand."""
        every = list(range(len(self.found.columns)))
        if len(every) <= most:
            return every
        keep = {self.found.usual, *every[::-1][: most - 1]}
        return [column for column in every if column in keep]

    def picture(self) -> Picture:
        self._header()
        self._rows()
        self._foot()
        return self.canvas.picture(self._data())

    # --- the header ---

    def _header(self) -> None:
        canvas = self.canvas
        heads = [self._names(self.found.columns[column], column) for column in self.columns]
        high = max(map(len, heads)) * _LINE
        bottom = canvas.top + high
        for at, lines in enumerate(heads):
            y = bottom - len(lines) * _LINE
            for number, (text, bold, faint) in enumerate(lines):
                canvas.words(
                    self._middle(at),
                    y + number * _LINE,
                    text,
                    size=SMALL,
                    bold=bold,
                    colour=FAINT if faint else INK,
                    most=self.wide - 8,
                    anchor="middle",
                    about=f"column {self.columns[at]}",
                )
        canvas.top = bottom + 6
        canvas.rule(canvas.top, right=self.left + len(self.columns) * self.wide)

    def _names(self, people: People, column: int) -> list[tuple[str, bool, bool]]:
        """The lines above a column: text, and whether it is bold, or faint."""
        users = len(people.who)
        if people.anyone_else:
            name = "everyone" if len(self.found.columns) == 1 else "all others"
            return [(name, True, False), *([(counted(users, "account"), False, True)] if users else [])]
        names = [_called(one) for one in people.who]
        if column == self.found.usual and users > _NAMES:
            return [(counted(users, "user"), True, False)]
        lines = [(name, True, False) for name in names[:_NAMES]]
        return lines if users <= _NAMES else [*lines[:-1], (f"and {users - _NAMES + 1:,} more", False, True)]

    def _middle(self, at: int) -> float:
        return self.left + (at + 0.5) * self.wide

    # --- the rows ---

    def _rows(self) -> None:
        canvas = self.canvas
        for number, places in enumerate(self.found.rows):
            lines = _labels(places, self.accounts)
            high = len(lines) * _LINE + 12
            if canvas.top + high > HEIGHT - _FOOT:
                break
            for line, (text, faint) in enumerate(lines):
                canvas.words(
                    MARGIN,
                    canvas.top + 6 + line * _LINE,
                    text,
                    size=SMALL,
                    mono=True,
                    colour=FAINT if faint else INK,
                    most=_LABELS - 12,
                    about=f"row {number}",
                )
            for at, column in enumerate(self.columns):
                self._cell(number, at, column, canvas.top, high)
            canvas.top += high
            canvas.rule(canvas.top, right=self.left + len(self.columns) * self.wide)
            self.shown += 1

    def _cell(self, row: int, at: int, column: int, top: float, high: float) -> None:
        about = f"cell {row} {column}"
        if self.found.differs(row, column):
            self.canvas.box(
                self.left + at * self.wide + 3, top + 3, self.wide - 6, high - 6, TINT, LOSS, about=f"unusual {about}"
            )
        step = min(26.0, (self.wide - 16) / len(self.slots))
        first = self._middle(at) - step * (len(self.slots) - 1) / 2
        for place, slot in enumerate(self.slots):
            self._sign(slot, self.found.cells[row][column], first + place * step, top + high / 2, about)

    def _sign(self, slot: Asked, cell: Cell, x: float, y: float, about: str) -> None:
        for right, has in cell:
            if right not in slot:
                continue
            about = f"{about} {right.name}"
            if has is None:
                self.canvas.words(x, y - 8, "?", size=BODY, bold=True, anchor="middle", about=about)
            elif has:
                sign = sign_of(right)
                self.canvas.shape(sign.form, x, y, 13, sign.colour, about=about)
            else:
                self.canvas.shape("dot", x, y, 3.5, PALE, about=about)

    # --- what it means, and what is not shown ---

    def _foot(self) -> None:
        canvas, y = self.canvas, self.canvas.top + 22
        x = float(MARGIN)
        for slot in self.slots:
            sign = sign_of(slot[0])
            canvas.shape(sign.form, x + 7, y + 8, 13, sign.colour, about="legend")
            both = slot == (EXECUTE, TRAVERSE)
            name = "execute, of directories traverse" if both else "/".join(one.name for one in slot)
            x = canvas.words(x + 20, y, name, size=SMALL, about="legend").right + 26
        canvas.shape("dot", x + 3, y + 8, 3.5, FAINT, about="legend")
        x = canvas.words(x + 14, y, "may not", size=SMALL, about="legend").right + 26
        if any(has is None for row in self.found.cells for cell in row for _, has in cell):
            x = canvas.words(x, y, "?  not known", size=SMALL, bold=True, about="legend").right + 26
        if any(self.found.differs(row, column) for row in range(self.shown) for column in self.columns):
            canvas.box(x, y - 1, 22, 17, TINT, LOSS, about="legend")
            canvas.words(x + 30, y, "not as all others", size=SMALL, about="legend")
        rows = sum(map(len, self.found.rows[self.shown :]))
        left = [counted(rows, "path")] if rows else []
        if more := len(self.found.columns) - len(self.columns):
            users = sum(len(one.who) for at, one in enumerate(self.found.columns) if at not in self.columns)
            left.append(f"{counted(users, 'user')} in {counted(more, 'column')} that differ less")
        canvas.top = y + 30
        if left:
            canvas.foot(f"Not shown: {' and '.join(left)}. fiat who names all of them.")

    def _data(self) -> Fields:
        return {
            "rows": [[place.path for place in places] for places in self.found.rows],
            "columns": [
                {
                    "people": [naming.word_for(one) for one in people.who],
                    "anyone_else": people.anyone_else,
                    "superuser": people.superuser,
                    "usual": column == self.found.usual,
                    "shown": column in self.columns,
                }
                for column, people in enumerate(self.found.columns)
            ],
            "cells": [[{right.name: has for right, has in cell} for cell in row] for row in self.found.cells],
            "shown": {"rows": self.shown, "columns": len(self.columns)},
        }


def _called(who: Principal) -> str:
    """Who, above a column."""
    return f"group {naming.group_of(who)}" if who.kind == "group" else naming.principal(who)


def _labels(places: Sequence[Place], accounts: Accounts) -> list[tuple[str, bool]]:
    """The lines beside a row: its paths, and below a single one its mode; each with whether it is faint."""
    if len(places) == 1:
        (place,) = places
        about = _posture(place.posture, accounts) if place.posture else "there is nothing of this name"
        return [(place.path, False), (about, True)]
    lines = [(place.path, False) for place in places[:4]]
    return lines if len(places) <= 4 else [*lines[:-1], (f"and {len(places) - 3:,} more with the same answers", True)]


def _posture(posture: Posture, accounts: Accounts) -> str:
    """``0640 rw-r----- keeper:watch, with a list``."""
    names = f"{naming.user(posture.uid, accounts)}:{naming.group(posture.gid, accounts)}"
    listed = ", with a list" if posture.acl is not None else ""
    return f"{octal(posture.mode)} {mode_letters(posture.mode)} {names}{listed}"
