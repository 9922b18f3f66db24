"""A picture as a file: PNG, SVG or PDF. Nothing is drawn but its marks, each where it is."""

from __future__ import annotations

import io
from typing import Any

from fiat.render.charts import letters
from fiat.render.charts.picture import HEIGHT, WIDTH, Box, Line, Picture, Shape, Words

FORMATS = ("png", "svg", "pdf")

_INCHES = 100
"""Pixels of an inch."""


def drawn(picture: Picture, format: str, *, cropped: bool = False) -> bytes:
    """The picture as PNG, SVG or PDF, the same bytes for the same picture; the whole page, or ``cropped`` below its
    last mark."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    matplotlib = letters.matplotlib
    settings = {"svg.hashsalt": "fiat", "svg.fonttype": "path", "pdf.fonttype": 42, "hatch.linewidth": 1.5}
    height = picture.height if cropped else HEIGHT
    with matplotlib.rc_context(settings):
        figure = Figure(figsize=(WIDTH / _INCHES, height / _INCHES), dpi=_INCHES)
        FigureCanvasAgg(figure)
        axes = figure.add_axes((0, 0, 1, 1))
        axes.set_xlim(0, WIDTH)
        axes.set_ylim(height, 0)
        axes.axis("off")
        for order, mark in enumerate(picture.marks):
            for artist in _artists(mark):
                artist.set_zorder(order)
                axes.add_artist(artist)
        out = io.BytesIO()
        undated: dict[str, dict[str, str | None]] = {
            "png": {"Software": None, "Title": picture.title},
            "svg": {"Date": None, "Title": picture.title},
            "pdf": {"CreationDate": None, "ModDate": None, "Title": picture.title},
        }
        figure.savefig(out, format=format, dpi=_INCHES, metadata=undated[format])
    return out.getvalue()


def _artists(mark: Words | Box | Line | Shape) -> list[Any]:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Rectangle
    from matplotlib.text import Text

    if isinstance(mark, Words):
        font = letters.font(mark.mono, mark.bold, mark.size)
        base = mark.y + letters.BASE * mark.size
        return [Text(mark.x, base, mark.text, fontproperties=font, color=mark.colour, va="baseline", parse_math=False)]
    if isinstance(mark, Box):
        edge = mark.edge or "none"
        where = ((mark.x, mark.y), mark.width, mark.height)
        found = [Rectangle(*where, facecolor=mark.fill or "none", edgecolor=edge, linewidth=mark.thick * 0.72)]
        if mark.striped:  # stripes have the colour of an edge
            found.append(Rectangle(*where, facecolor="none", edgecolor=mark.edge or "white", linewidth=0, hatch="//"))
        return found
    if isinstance(mark, Line):
        across, down = zip(*mark.points, strict=True)
        line = Line2D(across, down, color=mark.colour, linewidth=mark.thick * 0.72)
        line.set_linestyle((0, (4, 3)) if mark.dashed else "-")
        return [line]
    return [_shape(mark)]


_CORNERS: dict[str, list[tuple[float, float]]] = {
    "square": [(-0.9, -0.9), (0.9, -0.9), (0.9, 0.9), (-0.9, 0.9)],
    "up": [(0, -1), (1, 0.85), (-1, 0.85)],
    "diamond": [(0, -1), (1, 0), (0, 1), (-1, 0)],
}
_STROKES: dict[str, list[tuple[float, float]]] = {
    "cross": [(-0.7, -0.7), (0.7, 0.7), (0, 0), (0.7, -0.7), (-0.7, 0.7)],
    "check": [(-0.8, 0.05), (-0.2, 0.65), (0.85, -0.6)],
}


def _shape(mark: Shape) -> Any:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Circle, Polygon, RegularPolygon

    x, y, half = mark.x, mark.y, mark.size / 2
    face = mark.colour if mark.filled else "none"
    look: dict[str, Any] = {"facecolor": face, "edgecolor": mark.colour, "linewidth": 1.2}
    if mark.form in ("circle", "dot"):
        return Circle((x, y), half, **look)
    if mark.form == "stop":
        return RegularPolygon((x, y), 8, radius=half * 1.08, orientation=0.3927, **look)
    if (corners := _CORNERS.get(mark.form)) is not None:
        return Polygon([(x + half * right, y + half * down) for right, down in corners], closed=True, **look)
    across, down = zip(*((x + half * right, y + half * below) for right, below in _STROKES[mark.form]), strict=True)
    return Line2D(across, down, color=mark.colour, linewidth=1.6, solid_capstyle="round")
