"""From the model of a result to text that fits the terminal: measuring, wrapping, painting, the one table layout."""

import re
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial
from itertools import groupby
from operator import add

from fiat.render.model import (
    UNBROKEN,
    Block,
    FullLine,
    LongTable,
    Prose,
    Row,
    Span,
    Spans,
    Table,
    TableRows,
    Verbatim,
    plain,
    spans,
)

INDENT = "  "
_GAP = "  "
_READABLE = 110  # prose in longer lines is hard to read
_NARROWEST = 12
"""No column is made narrower than this."""

_ANY = 1 << 20
"""The width of a column that takes all the room there is."""

_BATCH = 400
_PATIENCE = 0.1
"""So many rows, or the rows of so many seconds, are measured before the first is shown."""

# Blue and orange stay apart for every kind of colour vision, and can be read on black and on white.
_CODES = {"strong": "1", "yes": "1;38;5;33", "no": "38;5;166", "faint": "2", "changed": "1;38;5;33"}


class Screen:
    """Where text is shown: ``columns`` wide, None where it is never wrapped; with or without colour."""

    __slots__ = ("coloured", "columns")

    def __init__(self, columns: int | None = None, coloured: bool = False) -> None:
        self.columns = columns
        self.coloured = coloured


def cells(text: str) -> int:
    """How many cells ``text`` takes on a terminal."""
    if text.isascii():
        return len(text)
    from wcwidth import wcswidth

    return max(int(wcswidth(text)), 0)


def lines(block: Block, screen: Screen) -> Iterator[str]:
    """The lines of a block on ``screen``; the rows of a long table come many at a time, as one text."""
    if isinstance(block, Verbatim):
        yield _painted([Span(INDENT * block.indent), *spans(block.text)], screen)
    elif isinstance(block, Prose):
        yield from _prose(block, screen)
    else:
        yield from _Layout(block, screen).lines()


def _painted(line: Sequence[Span], screen: Screen) -> str:
    """A line in its colours, without spaces at its end."""
    if not screen.coloured:
        return "".join(span.text for span in line).rstrip().replace(UNBROKEN, " ")
    parts = list(line)
    while parts and not parts[-1].text.strip():
        parts.pop()
    if parts:
        parts[-1] = parts[-1]._replace(text=parts[-1].text.rstrip())
    together = ((style, "".join(span.text for span in some)) for style, some in groupby(parts, lambda one: one.style))
    painted = (f"\x1b[{_CODES[style]}m{text}\x1b[0m" if style and text else text for style, text in together)
    return "".join(painted).replace(UNBROKEN, " ")


def _colours(cell: Spans, screen: Screen) -> str:
    """A cell in its colours."""
    return cell if isinstance(cell, str) else _painted(spans(cell), screen)


def _prose(block: Prose, screen: Screen) -> Iterator[str]:
    indent = INDENT * block.indent
    if screen.columns is None:
        yield _painted([Span(indent), *spans(block.text)], screen)
        return
    room = min(screen.columns, _READABLE) - cells(indent)
    fits = cells(indent) + cells(plain(block.text)) <= screen.columns
    wrapped = [spans(block.text)] if fits else wrap(block.text, room, room - cells(block.hanging))
    for number, line in enumerate(wrapped):
        before = indent if not number else indent + block.hanging
        yield _painted([Span(before), *line], screen)


def wrap(text: Spans, first: int, rest: int) -> list[list[Span]]:
    """``text`` in lines of at most ``first``, then ``rest`` cells; broken at spaces, never within a word."""
    found: list[list[Span]] = [[]]
    width, room = 0, max(first, 1)
    for word in _words(text):
        size = cells("".join(span.text for span in word))
        blank = not "".join(span.text for span in word).strip()
        if width and width + size > room:
            _strip_end(found[-1])
            found.append([])
            width, room = 0, max(rest, 1)
            if blank:
                continue
        if blank and not width and len(found) > 1:
            continue
        found[-1] += word
        width += size
    _strip_end(found[-1])
    return found


def _words(text: Spans) -> Iterator[list[Span]]:
    """Words, and the spaces between them; a word may go over several spans."""
    word: list[Span] = []
    for span in spans(text):
        for part in re.findall(r"\s+|\S+", span.text):
            blank = part.isspace()
            if word and (blank or word[-1].text.isspace()):
                yield word
                word = []
            word.append(Span(part, span.style))
    if word:
        yield word


def _width(line: list[Span]) -> int:
    return cells("".join(span.text for span in line))


def _strip_end(line: list[Span]) -> None:
    while line and line[-1].text.isspace():
        line.pop()


class _Layout:
    """Lays out one table."""

    def __init__(self, table: Table, screen: Screen) -> None:
        self.table = table
        self.screen = screen
        self.indent = INDENT * table.indent
        self.widths = [cells(cell) for cell in table.header]
        self.limits: dict[int, int] = {}

    def lines(self) -> Iterator[str]:
        begun = False
        for batch in self._batches():
            if not begun or any(isinstance(row, LongTable) for row in batch):
                self._measure(batch)  # later rows do not move the columns: what is too wide there moves its own row
            if not begun:
                begun = True
                if any(self.table.header):
                    yield from self._row([Span(cell, "faint") for cell in self.table.header])
            for row in batch:
                if isinstance(row, FullLine):
                    yield _painted([Span(INDENT * (self.table.indent - 1)), *spans(row.text)], self.screen)
                elif isinstance(row, LongTable):
                    yield from self._long(row)
                else:
                    yield from self._row(row)

    def _batches(self) -> Iterator[list[Row]]:
        """Rows that are measured together; how long they take counts only where somebody waits for them.

        The clock starts with the first row: what was to be done before it says
        nothing of the others. What is piped is the same each time.
        """
        batch: list[Row] = []
        since = 0.0
        for row in self.table.rows:
            if isinstance(row, LongTable):
                yield [*batch, row]
                batch = []
                continue
            if not batch:
                since = time.monotonic()
            batch.append(row)
            waiting = self.screen.columns is not None and time.monotonic() - since > _PATIENCE
            if len(batch) >= _BATCH or waiting:
                yield batch
                batch = []
        if batch:
            yield batch

    def _measure(self, batch: list[Row]) -> None:
        for row in batch:
            if isinstance(row, LongTable):
                for place, column in enumerate(zip(*row.kinds.values(), strict=True)):
                    self.widths[place] = max([self.widths[place], *map(cells, set(map(plain, column)))])
                self.widths[-1] = _ANY  # all the room there is
            elif not isinstance(row, FullLine):
                self._widen(row)
        if self.screen.columns is None:
            return
        count = len(self.widths)
        flexible = sorted({place % count for place in self.table.flexible})
        gaps = len(_GAP) * (count - 1)
        room = self.screen.columns - cells(self.indent) - gaps
        room -= sum(width for place, width in enumerate(self.widths) if place not in flexible)
        self.limits = {}
        # the narrower ones get what they need, and leave more to the others
        for number, place in enumerate(sorted(flexible, key=lambda place: self.widths[place])):
            share = max(room // (len(flexible) - number), _NARROWEST)
            self.limits[place] = min(self.widths[place], share)
            room -= self.limits[place]

    def _widen(self, row: Sequence[Spans]) -> None:
        """Make the columns wide enough for these cells."""
        for place, cell in enumerate(row):
            self.widths[place] = max(self.widths[place], cells(plain(cell)))

    def _long(self, table: LongTable) -> Iterator[str]:
        padded: dict[int, str] = {}
        whole = None
        if len(self.widths) - 1 not in self.limits:  # nothing is too wide
            self._pad(table.kinds, padded, table.kinds)
            whole = table.whole(padded)
        if whole is None:
            yield from table.texts(partial(self._some, table.kinds, padded))
        else:
            for text in whole:
                yield text.removesuffix("\n")

    def _pad(self, kinds: Mapping[int, Sequence[Spans]], padded: dict[int, str], some: Iterable[int]) -> None:
        """Put what rows of some of the kinds begin with into ``padded``."""
        for kind in some:
            cut = zip(kinds[kind], self.widths, strict=False)
            padded[kind] = self.indent + "".join(
                [_colours(cell, self.screen) + " " * (width - cells(plain(cell))) + _GAP for cell, width in cut]
            )

    def _some(self, kinds: Mapping[int, Sequence[Spans]], padded: dict[int, str], rows: TableRows) -> str:
        """Some of many rows; what each kind begins with is ``padded`` once."""
        self._pad(kinds, padded, set(rows.kinds) - padded.keys())
        text = "\n".join(map(add, map(padded.__getitem__, rows.kinds), rows.last))
        limit = self.limits.get(len(self.widths) - 1)
        if limit is None or max(map(cells, rows.last)) <= limit:  # nothing is too wide
            return text if " \n" not in text + "\n" else "\n".join(map(str.rstrip, text.split("\n")))
        found: list[str] = []
        for kind, line, name in zip(rows.kinds, text.split("\n"), rows.last, strict=True):
            if cells(name) > limit:
                found += self._row([*kinds[kind], name])
            else:
                found.append(line.rstrip())
        return "\n".join(found)

    def _row(self, row: Sequence[Spans]) -> Iterator[str]:
        whole = self._in_one_line(row)
        if whole is not None:
            yield whole
            return
        columns = [self._cell(cell, place) for place, cell in enumerate(row)]
        last = len(columns) - 1
        too_long: list[Span] | None = None
        limit = self.limits.get(last)
        if limit is not None and len(columns[last]) == 1 and _width(columns[last][0]) > limit:
            too_long, columns[last] = columns[last][0], [[]]  # a name in one piece, on a line of its own
        for number in range(max(map(len, columns))):
            line = [Span(self.indent)]
            for place, column in enumerate(columns):
                part = column[number] if number < len(column) else []
                line += part
                if place < last:
                    width = self.limits.get(place, self.widths[place])
                    line.append(Span(" " * (width - _width(part)) + _GAP))
            yield _painted(line, self.screen)
        if too_long is not None:
            yield _painted([Span(self.indent + INDENT * 2), *too_long], self.screen)

    def _in_one_line(self, row: Sequence[Spans]) -> str | None:
        """A row of plain text that fits, as most rows of long tables are; None for others."""
        line = self.indent
        for place, cell in enumerate(row):
            if not isinstance(cell, str):
                return None
            size, width = cells(cell), self.limits.get(place, self.widths[place])
            if size > width:
                return None
            line += cell + " " * (width - size) + _GAP
        return line.rstrip().replace(UNBROKEN, " ")

    def _cell(self, cell: Spans, place: int) -> list[list[Span]]:
        limit = self.limits.get(place)
        named = self.table.named and place == len(self.widths) - 1
        if limit is None or named or cells(plain(cell)) <= limit:
            return [spans(cell)]
        if self.table.shorten is not None and place == len(self.widths) - 1:
            return [[Span(self.table.shorten(plain(cell), limit))]]
        return wrap(cell, limit, limit)
