"""Where marks are put on the page."""

from __future__ import annotations

from collections.abc import Sequence

from fiat.core.text import Fields
from fiat.render.charts import letters
from fiat.render.charts.palette import FAINT, INK, PAPER, RULE
from fiat.render.charts.picture import HEIGHT, WIDTH, Box, Line, Mark, Picture, Shape, Words

MARGIN = 40
BODY = 14.0
SMALL = 12.0


class Canvas:
    """A page to be filled: its title is put first, and below it what is said in a line or two."""

    def __init__(self, title: str, said: Sequence[str] = ()) -> None:
        self.title = letters.drawable(title)
        self.marks: list[Mark] = [Box(0, 0, WIDTH, HEIGHT, PAPER, about="page")]
        self.top = float(MARGIN - 12)
        for line in letters.wrapped(self.title, WIDTH - 2 * MARGIN, 22, bold=True)[:2]:
            self.top = self.words(MARGIN, self.top, line, size=22, bold=True, about="title").below
        for text in said:
            for line in letters.wrapped(letters.drawable(text), WIDTH - 2 * MARGIN, BODY)[:2]:
                self.top = self.words(MARGIN, self.top + 3, line, colour=FAINT, about="said").below
        self.top += 14

    def words(
        self,
        x: float,
        y: float,
        text: str,
        *,
        size: float = BODY,
        colour: str = INK,
        mono: bool = False,
        bold: bool = False,
        most: float | None = None,
        anchor: str = "left",
        about: str = "",
    ) -> Placed:
        """Text with its upper left corner there (or its ``middle``, or its ``right`` end), cut where wider than
        ``most``."""
        text = letters.drawable(text, mono)
        if most is not None:
            text = letters.cut(text, most, size, mono, bold)
        width = letters.width_of(text, size, mono, bold)
        x -= width * {"left": 0.0, "middle": 0.5, "right": 1.0}[anchor]
        placed = Words(x, y, text, size, colour, width, size * letters.LEADING, mono, bold, about)
        if text:
            self.marks.append(placed)
        return Placed(placed)

    def box(
        self,
        x: float,
        y: float,
        width: float,
        height: float,
        fill: str | None,
        edge: str | None = None,
        *,
        thick: float = 1,
        striped: bool = False,
        about: str = "",
    ) -> None:
        """A rectangle."""
        self.marks.append(Box(x, y, width, height, fill, edge, thick, striped, about))

    def line(
        self,
        points: Sequence[tuple[float, float]],
        colour: str,
        *,
        thick: float = 1,
        dashed: bool = False,
        about: str = "",
    ) -> None:
        """A line through some points."""
        self.marks.append(Line(tuple(points), colour, thick, dashed, about))

    def shape(
        self, form: str, x: float, y: float, size: float, colour: str, *, filled: bool = True, about: str = ""
    ) -> None:
        """A shape around its centre."""
        self.marks.append(Shape(form, x, y, size, colour, filled, about))

    def rule(self, y: float, left: float = MARGIN, right: float = WIDTH - MARGIN) -> None:
        """A thin line across the page."""
        self.line([(left, y), (right, y)], RULE, about="rule")

    def foot(self, text: str) -> None:
        """What is said at the end of the page, in a line."""
        y = min(self.top + 8, HEIGHT - 30)
        self.words(MARGIN, y, text, size=SMALL, colour=FAINT, most=WIDTH - 2 * MARGIN, about="foot")

    def picture(self, data: Fields) -> Picture:
        """The page as it is now, which shows ``data``."""
        return Picture(self.title, data, tuple(self.marks))


class Placed:
    """Where text was put."""

    __slots__ = ("below", "right", "words")

    def __init__(self, words: Words) -> None:
        self.words = words
        self.right = words.x + words.width
        self.below = words.y + words.height
