"""A picture: its data, and the marks that show it. Places and sizes are in pixels from the upper left corner."""

from typing import NamedTuple

from fiat.core.text import Fields

WIDTH, HEIGHT = 1280, 800
"""The page, in pixels: 12.8 x 8 inches of 100 pixels each."""


class Words(NamedTuple):
    """A line of text: its upper left corner, and the room it takes; ``about`` names the data that it stands for."""

    x: float
    y: float
    text: str
    size: float
    colour: str
    width: float
    height: float
    mono: bool = False
    bold: bool = False
    about: str = ""


class Box(NamedTuple):
    """A rectangle; ``striped`` ones are told from others without colour."""

    x: float
    y: float
    width: float
    height: float
    fill: str | None
    edge: str | None = None
    thick: float = 1
    striped: bool = False
    about: str = ""


class Line(NamedTuple):
    """A line through some points."""

    points: tuple[tuple[float, float], ...]
    colour: str
    thick: float = 1
    dashed: bool = False
    about: str = ""


FORMS = ("circle", "square", "up", "diamond", "cross", "dot", "check", "stop")
"""The forms of shapes: each right has its own, so that it is told from others without colour."""


class Shape(NamedTuple):
    """One of :data:`FORMS` around its centre; ``size`` is how wide it is."""

    form: str
    x: float
    y: float
    size: float
    colour: str
    filled: bool = True
    about: str = ""


Mark = Words | Box | Line | Shape
"""Whatever is drawn, in the order in which it is drawn."""


def _bottom(mark: Mark) -> float:
    if isinstance(mark, Line):
        return max(y for _, y in mark.points)
    return mark.y + (mark.size / 2 if isinstance(mark, Shape) else mark.height)


class Picture(NamedTuple):
    """A picture with its title, the data that it shows, and the marks."""

    title: str
    data: Fields
    marks: tuple[Mark, ...]

    @property
    def height(self) -> float:
        """How far down its marks reach, with a margin below."""
        lowest = max((_bottom(mark) for mark in self.marks[1:]), default=0.0)
        return min(lowest + 24, HEIGHT)

    def fields(self) -> Fields:
        """The machine output: the data, and where each mark is."""
        marks = [{"mark": type(mark).__name__.lower(), **mark._asdict()} for mark in self.marks]
        return {"title": self.title, "width": WIDTH, "height": HEIGHT, **self.data, "marks": marks}
