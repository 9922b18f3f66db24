"""The picture of one verdict: the way there as steps, where it stops, and what would open it."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from fiat.app.why import Why
from fiat.core.rules.checks import Step
from fiat.core.text import counted, visible
from fiat.core.words import naming
from fiat.render import words
from fiat.render.charts import letters
from fiat.render.charts.canvas import BODY, MARGIN, SMALL, Canvas
from fiat.render.charts.palette import FAINT, GAIN, INK, LOSS, PALE, RULE, TINT
from fiat.render.charts.picture import HEIGHT, WIDTH, Picture
from fiat.render.output import errno_name
from fiat.render.why import WhyView, decided

if TYPE_CHECKING:
    from fiat.core.model.wish import Advice

_ICON = MARGIN + 14
_PATH, _NEEDS, _RULE, _ENTRY = MARGIN + 40, 560.0, 690.0, 850.0
_ROW = 34.0
_ADVICE = 17.0
_LEAST = 96.0
"""Room that is left for what would open it, where anything would."""


class _Row(NamedTuple):
    """A step of the way; ``left_out`` are as many that are not shown here, all passed."""

    step: Step | None
    reached: bool
    left_out: int = 0


def why_picture(found: Why, about: str, options: Sequence[tuple[str, str]]) -> Picture:
    """The verdict that was ``found``, with as many steps as there is room for: what decides is always among them.

    ``options`` are those that command lines need for the host that was asked.
    """
    verdict = found.verdict
    kind = found.route.end.posture.kind if found.route.end else None
    name, path = naming.principal(found.who), found.route.asked
    may = "may" if verdict.allowed else "may not"
    said = list(found.explained[:2])
    if found.open:
        may = "may or may not"
        said.insert(0, "Groups that could not be asked for decide. With those that are known it is so:")
    elif not verdict.allowed:
        said[:1] = [f"{errno_name(verdict.errno)} ({os.strerror(verdict.errno)}). {''.join(said[:1])}"]
    phrase = words.right_phrase(found.right, kind)
    canvas = Canvas(f"{name} {may} {phrase} {visible(path)}", [*said, about])
    view = WhyView(found, list(options))
    record = next(view.records())
    commands = [advice["command"] for advice in record["changes"]]
    rest = HEIGHT - canvas.top - 2 * MARGIN - (_LEAST if found.advice else 0)
    for x, heading in ((_PATH, "at"), (_NEEDS, "needs"), (_RULE, "what decides"), (_ENTRY, "entry")):
        canvas.words(x, canvas.top, heading, size=SMALL, colour=FAINT, about="heading")
    canvas.top += 22
    rows = _rows(found, max(int((rest - 22) // _ROW), 3))
    for row in rows:
        _draw(canvas, row, found, last=row is rows[-1])
    _advice(canvas, found.advice, commands)
    return canvas.picture(record)


def _rows(found: Why, most: int) -> list[_Row]:
    """The steps, those that are never reached last; from the middle of the passed ones as many taken out as need be."""
    verdict = found.verdict
    rows = [*(_Row(step, True) for step in verdict.steps), *(_Row(step, False) for step in verdict.beyond)]
    if len(rows) <= most:
        return rows
    reached = len(verdict.steps)
    beyond = rows[reached : reached + max(most - reached, 2)]
    room = most - len(beyond)
    if reached > room:
        ends = max(room - 2, 1)
        rows = [rows[0], _Row(None, True, reached - 1 - ends), *rows[reached - ends : reached], *beyond]
    else:
        rows = [*rows[:reached], *beyond]
    left = len(verdict.beyond) - len(beyond)
    return [*rows, _Row(None, False, left)] if left > 0 else rows


def _draw(canvas: Canvas, row: _Row, found: Why, *, last: bool) -> None:
    top, middle = canvas.top, canvas.top + _ROW / 2
    if row.step is None:
        what = "more steps, all passed" if row.reached else "more steps that are not reached"
        canvas.words(_PATH, top + 8, f"{row.left_out:,} {what}", colour=FAINT, size=SMALL, about="left out")
        canvas.top += _ROW
        return
    step = row.step
    stops = step is found.verdict.blocker and not found.verdict.allowed
    about = f"step {step.path} {step.needs}"
    if stops:
        canvas.box(MARGIN, top + 1, WIDTH - 2 * MARGIN, _ROW - 2, TINT, LOSS, about=f"stop {about}")
    colour = INK if row.reached else FAINT
    if row.reached and step.allowed:
        canvas.shape("circle", _ICON, middle, 16, GAIN, filled=False, about=f"passed {about}")
        canvas.shape("check", _ICON, middle, 9, GAIN, about=f"passed {about}")
    elif row.reached:
        canvas.shape("stop", _ICON, middle, 18, LOSS, filled=False, about=f"stopped {about}")
        canvas.shape("cross", _ICON, middle, 9, LOSS, about=f"stopped {about}")
    elif step.allowed:
        canvas.shape("dot", _ICON, middle, 6, PALE, about=f"not reached {about}")
    else:  # it would stop there as well, if it came so far
        canvas.shape("stop", _ICON, middle, 14, PALE, filled=False, about=f"not reached {about}")
        canvas.shape("cross", _ICON, middle, 7, PALE, about=f"not reached {about}")
    line = top + _ROW / 2 - SMALL * letters.LEADING / 2
    rule, entry = decided(step, found.host.accounts)
    canvas.words(_PATH, line, step.path, size=SMALL, mono=True, bold=stops, colour=colour, most=_NEEDS - _PATH - 12)
    canvas.words(_NEEDS, line, step.needs, size=SMALL, colour=colour, most=_RULE - _NEEDS - 12)
    if not entry:
        canvas.words(_RULE, line, rule, size=SMALL, colour=colour, most=WIDTH - MARGIN - _RULE - 8)
    else:
        canvas.words(_RULE, line, rule, size=SMALL, colour=colour, most=_ENTRY - _RULE - 12)
        room = WIDTH - MARGIN - _ENTRY - 8
        canvas.words(_ENTRY, line, entry, size=SMALL, mono=True, colour=colour, most=room)
    canvas.top += _ROW
    if not (stops or last):
        canvas.line([(_ICON, middle + 10), (_ICON, canvas.top + 5)], RULE, thick=2, dashed=not row.reached, about="way")


def _advice(canvas: Canvas, advice: Sequence[Advice], commands: Sequence[str]) -> None:
    """What would open it, as much as there is room for; where several objects refuse, each is a step with its ways."""
    if not advice:
        return
    steps = list(dict.fromkeys(one.path for one in advice if not one.suffices))
    title = "What would have to change, one of these, the narrowest first"
    if len(steps) > 1:
        title = f"What would have to change: all of these {len(steps)} steps, each in one of its ways"
    y = canvas.words(MARGIN, canvas.top + 10, title, size=BODY, bold=True, about="advice").below + 4
    ordered = sorted(
        zip(advice, commands, strict=True), key=lambda one: steps.index(one[0].path) if one[0].path in steps else -1
    )
    shown, at = 0, None
    for one, command in ordered:
        heading = None
        if len(steps) > 1 and one.path in steps and one.path != at:
            heading = f"{steps.index(one.path) + 1}. at {visible(one.path)}"
        alone = "that alone is enough: " if len(steps) > 1 and one.path not in steps else ""
        lines = letters.wrapped(letters.drawable(f"{alone}{one.with_others()}"), WIDTH - 2 * MARGIN - 20, SMALL)
        if y + (len(lines) + bool(command) + bool(heading)) * _ADVICE + 4 > HEIGHT - 44:
            break
        if heading:
            canvas.words(MARGIN + 10, y, heading, size=SMALL, bold=True, most=WIDTH - 3 * MARGIN, about="advice at")
            y, at = y + _ADVICE, one.path
        for line in lines:
            canvas.words(MARGIN + 20, y, line, size=SMALL, about="advice")
            y += _ADVICE
        if command:
            fits = letters.width_of(letters.drawable(command, True), SMALL, True) <= WIDTH - 2 * MARGIN - 40
            told = command if fits else "the command is too long to be shown here: fiat why prints it"
            canvas.words(MARGIN + 40, y, told, size=SMALL, mono=fits, colour=GAIN if fits else FAINT, about="advice")
            y += _ADVICE
        y += 4
        shown += 1
    canvas.top = y
    if shown < len(advice):
        more = counted(len(advice) - shown, "more way", "more ways")
        canvas.foot(f"{more} {'is' if len(advice) - shown == 1 else 'are'} not shown; fiat why names all of them.")
