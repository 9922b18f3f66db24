"""One model of what results look like as text: spans, lines, prose, tables.

A result says what is to be seen; :mod:`fiat.render.text` measures it in
terminal cells, wraps and paints it. The other forms are records: JSON, JSON
Lines and CSV (:mod:`fiat.render.output`).
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple, Protocol

from fiat.core.text import Fields

STYLES = ("strong", "yes", "no", "faint", "changed")
"""What a colour can mean; the words carry it too."""


class Span(NamedTuple):
    """Text in one style, one of :data:`STYLES`, or in none."""

    text: str
    style: str = ""


UNBROKEN = "\0"
"""Stands for a space at which no line is broken: in a name, or in a command line that may be copied."""


def unbroken(text: str) -> str:
    """``text`` in one piece, however long."""
    return text.replace(" ", UNBROKEN)


Spans = str | Span | Sequence[str | Span]
"""One run of text, or several one after the other."""


def spans(given: Spans) -> list[Span]:
    """What was given for a cell or a line, as spans with their styles."""
    if isinstance(given, str):
        return [Span(given)]
    if isinstance(given, Span):
        return [given]
    return [Span(one) if isinstance(one, str) else one for one in given]


def plain(given: Spans) -> str:
    """The text of what was given, without styles."""
    if isinstance(given, str):
        return given
    return "".join(one.text for one in spans(given))


class Prose(NamedTuple):
    """A paragraph, wrapped at spaces where it is too long; what follows the first line begins with ``hanging``."""

    text: Spans
    indent: int = 0
    hanging: str = ""


class Verbatim(NamedTuple):
    """A line that is never wrapped, so that it can be copied."""

    text: Spans
    indent: int = 0


class FullLine:
    """A line across all columns of a table, less indented than its rows by one step."""

    __slots__ = ("text",)

    def __init__(self, text: Spans) -> None:
        self.text = text


class TableRows:
    """Some of very many rows: of each the kind (:class:`LongTable`), and its last cell."""

    __slots__ = ("kinds", "last")

    def __init__(self, kinds: Sequence[int], last: Sequence[str]) -> None:
        self.kinds = kinds
        self.last = last


class LongTable:
    """Very many rows, laid out some at a time, by several processes.

    ``kinds`` are by number the cells that rows can begin with, all but the last; none of
    these columns may be one that wraps, and the last cell is plain text. ``texts`` takes what lays out some of
    the rows, and gives the text of all of them. ``whole`` takes, by kind, what rows begin with, and gives the text of
    all of them if that can be had faster, each row with the end of its line.
    """

    __slots__ = ("kinds", "texts", "whole")

    def __init__(
        self,
        kinds: Mapping[int, Sequence[Spans]],
        texts: Callable[[Callable[[TableRows], str]], Iterable[str]],
        whole: Callable[[Mapping[int, str]], Iterator[str] | None] = lambda begins: None,
    ) -> None:
        self.kinds = kinds
        self.texts = texts
        self.whole = whole


Row = Sequence[Spans] | FullLine | LongTable
"""What a table holds."""


class Table(NamedTuple):
    """Rows under a header, no lines drawn; without a header where all of it is empty.

    Rows are shown as they come: the first that do so quickly set the widths, and
    what is wider in a later one moves that row alone. ``flexible`` are the columns
    that wrap where the terminal is narrow, and share what room there is; the
    last column where none is named. ``named`` tells that the last column holds names, which
    are never wrapped. ``shorten`` makes what is in the last column, which is plain text then, fit so many cells: it is
    for a list in which each row is one line, and where what is cut can be had whole elsewhere.
    """

    header: Sequence[str]
    rows: Iterable[Row]
    flexible: tuple[int, ...] = (-1,)
    indent: int = 1
    named: bool = False
    shorten: Callable[[str, int], str] | None = None


Block = Prose | Verbatim | Table
"""What text is made of. A blank line is ``BLANK``."""

BLANK = Verbatim("")


class OutputLines:
    """Lines of machine output, many at a time, each with its end; ``header`` are the columns of CSV."""

    __slots__ = ("header", "texts")

    def __init__(self, texts: Iterable[str], header: Sequence[str] = ()) -> None:
        self.texts = texts
        self.header = header


class Part(NamedTuple):
    """A part of a result, which may be the same on several hosts of a fleet: as JSON, and as text.

    What the fields ``counted`` have is added up where hosts agree in all others, but for those ``apart``, which are
    taken from the first. ``same`` is what makes the text of two hosts the same, where that is not all of it; and
    ``exactly`` what counts besides, for text names but a few of many. ``heading`` makes its first line of the fields.
    ``under`` stands once above all that have it; what has a lower ``rank`` comes first.
    """

    record: Fields | None
    blocks: tuple[Block, ...] = ()
    counted: tuple[str, ...] = ()
    apart: tuple[str, ...] = ()
    same: str | None = None
    exactly: tuple[object, ...] = ()
    heading: "Callable[[Fields], Block] | None" = None
    under: tuple[Block, ...] = ()
    rank: int = 0


class Result(Protocol):
    """Something found, in every form that it can be shown in."""

    def parts(self, *, text: bool) -> Iterator[Part]:
        """What may be the same on several hosts, each with its ``text``, or with its record."""

    def tables(self) -> Iterator[Any]:
        """As tables of pyarrow, where it is a list of paths."""

    def blocks(self) -> Iterator[Block]:
        """The result as blocks of text, for a terminal or a pipe."""

    def records(self) -> Iterator[Fields]:
        """As JSON: one object for each result."""

    def rows(self) -> Iterator[Fields]:
        """As CSV: one flat row for each; every row has the same fields."""

    def lines(self) -> Iterator[Fields]:
        """The records of the result as JSON Lines have them, one for each line."""

    def written(self, format: str) -> "OutputLines | None":
        """As CSV or JSON Lines written already, in place of rows and lines; None where these are to be written."""

    def all_paths(self) -> Iterator[str]:
        """The paths that it is about, for whoever goes on with these."""

    def envelope(self) -> Fields:
        """What stands beside the results in JSON."""


class PlainResult:
    """The forms of a result that has nothing special about them: rows and lines are the records."""

    def parts(self, *, text: bool) -> Iterator[Part]:
        """All of its text is one part; each of the records is one."""
        if text:
            yield Part(None, tuple(self.blocks()))
        else:
            yield from map(Part, self.records())

    def blocks(self) -> Iterator[Block]:
        """Nothing to be seen."""
        return iter(())

    def tables(self) -> Iterator[Any]:
        """None: there is no list of paths."""
        return iter(())

    def records(self) -> Iterator[Fields]:
        """One object for each result."""
        return iter(())

    def rows(self) -> Iterator[Fields]:
        """The records themselves, where these are flat enough for CSV."""
        return self.records()

    def lines(self) -> Iterator[Fields]:
        """The same records as JSON has: each becomes a line."""
        return self.records()

    def written(self, format: str) -> "OutputLines | None":
        """None: nothing of the result is laid out already."""
        return None

    def all_paths(self) -> Iterator[str]:
        """The path of each record, once."""
        return iter(dict.fromkeys(record["path"] for record in self.records() if "path" in record))

    def envelope(self) -> Fields:
        """No fields beside the results."""
        return {}
