"""A picture as machine output."""

from collections.abc import Iterator

from fiat.core.text import Fields
from fiat.render.charts.picture import Picture
from fiat.render.model import Block, PlainResult


class PictureView(PlainResult):
    """The data of a picture, and where each of its marks is."""

    def __init__(self, picture: Picture) -> None:
        self._picture = picture

    def records(self) -> Iterator[Fields]:
        """The picture."""
        yield self._picture.fields()

    def blocks(self) -> Iterator[Block]:
        """Nothing: a picture has no text form."""
        yield from ()
