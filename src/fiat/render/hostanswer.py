"""What a command answers about one host of a fleet, held to be put together with what it answers about others."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from fiat.app.status import ExitStatus
from fiat.core.errors import FiatError, PathError
from fiat.core.state.fleet import People, Sameness, SamePeople, people_of
from fiat.render.lines import csv_cell, csv_row, csv_text
from fiat.render.model import Block, OutputLines, Part, Result, Table, plain
from fiat.render.output import Output, errno_name

if TYPE_CHECKING:
    from fiat.core.model.finding import Finding
    from fiat.core.model.host import Host

WHOLE = ("sarif", "junit", "openmetrics")
"""Forms that are one document, of which each host has one."""


class HeldPart(NamedTuple):
    """A part of an answer, the digest of what makes it the same elsewhere, and what is counted over all."""

    digest: bytes
    part: Part
    counts: tuple[int, ...]


class HostAnswer(NamedTuple):
    """The answer about one host, as text and JSON have it in ``parts``, and other forms in compressed ``lines`` under
    a ``header``, or in ``tables``.

    ``words`` are what was said on stderr about words, ``error`` why there is no answer at all.
    """

    status: ExitStatus = ExitStatus.DONE
    answered: int = 0
    parts: tuple[HeldPart, ...] = ()
    lines: bytes = b""
    header: tuple[str, ...] = ()
    caveats: tuple[Finding, ...] = ()
    problems: tuple[PathError, ...] = ()
    words: tuple[str, ...] = ()
    people: People | None = None
    error: str = ""
    tables: tuple[bytes, ...] = ()


class CollectedOutput(Output):
    """Takes what a command says of one host, and prints nothing. ``people`` are joined with those of other hosts."""

    def __init__(self, command: str, format: str, host: str, same_people: SamePeople, *, quiet: bool) -> None:
        super().__init__(command, format, quiet=quiet)
        self.host = host
        self.same_people = same_people
        self.people: People | None = None
        self._parts: list[HeldPart] = []
        self._header: tuple[str, ...] = ()
        self._words: list[str] = []
        self._pieces: list[str] = []
        self._files: list[bytes] = []

    def speaks_of(self, host: Host) -> None:
        """Take its people to be those whom the answer is about."""
        self.people = people_of(host.accounts)

    @property
    def shows_progress(self) -> bool:
        """Nobody sees how far it is with one of many hosts."""
        return False

    def problem(self, error: PathError) -> None:
        """Note a path that failed."""
        self._problems.append(error)

    def tell(self) -> None:
        """Say nothing: the fleet's output does."""

    def complain(self, error: FiatError | str) -> None:
        """Note what was wrong."""
        self._words.append(str(error))

    def _write(self, words: str) -> None:
        """Print nothing: what follows the results is said of the whole fleet."""

    def add(self, result: Result, *, count: int = 1) -> None:
        """Take a result."""
        self.answered += count
        if self.quiet:
            return
        if self.format in ("text", "json"):
            self._parts += map(self._held, result.parts(text=self.format == "text"))
            return
        if self.format == "parquet":
            from fiat.render.tables import as_bytes

            self._files.append(as_bytes(result.tables()))
            return
        written = result.written(self.format)
        if written is not None:
            self._take_written(written)
        elif self.format == "csv":
            for row in result.rows():
                self._header = ("host", *row)
                self._pieces.append(f"{csv_row((csv_cell(self.host), *map(csv_cell, row.values())))}\n")
        else:
            self._pieces += (f"{json.dumps({'host': self.host, **line})}\n" for line in result.lines())

    def _take_written(self, written: OutputLines) -> None:
        if self.format in WHOLE:
            self._pieces += written.texts
            return
        begin = f'{{"host": {json.dumps(self.host)}, ' if self.format == "jsonl" else f"{csv_text(self.host)},"
        without = 1 if self.format == "jsonl" else 0
        self._header = ("host", *written.header)
        for text in written.texts:
            self._pieces += (f"{begin}{line[without:]}" for line in _whole_lines(text, csv=self.format == "csv"))

    def _held(self, part: Part) -> HeldPart:
        assert self.people is not None
        same = Sameness(self.people, self.same_people)
        part = part._replace(blocks=tuple(map(_made, part.blocks)))
        if self.format == "json":
            assert part.record is not None
            digest = same.of_record(part.record, (*part.counted, *part.apart))
        else:
            under = "\n".join(map(_text_of, part.under))
            told = part.same if part.same is not None else "\n".join(map(_text_of, part.blocks))
            digest = same.of_text("\0".join((under, told, *map(str, part.exactly))))
        counts = tuple(part.record[name] for name in part.counted) if part.record is not None else ()
        return HeldPart(digest, part, counts)

    def answer(self, status: ExitStatus) -> HostAnswer:
        """All that was taken, where the command ended with this status."""
        import zstandard

        lines = zstandard.compress("".join(self._pieces).encode("utf-8", "surrogateescape"), 1) if self._pieces else b""
        return HostAnswer(
            status,
            self.answered,
            tuple(self._parts),
            lines,
            self._header,
            tuple(self._caveats.values()),
            tuple(self._problems),
            tuple(self._words),
            self.people,
            tables=tuple(self._files),
        )


def _whole_lines(text: str, *, csv: bool) -> Iterator[str]:
    """The lines of a text, each with its end; in CSV a line may go on within quotation marks."""
    if not csv or '"' not in text:
        yield from text.splitlines(keepends=True) if not csv else _split(text)
        return
    begun = ""
    for line in _split(text):
        begun += line
        if begun.count('"') % 2 == 0:
            yield begun
            begun = ""


def _split(text: str) -> list[str]:
    """The lines as newlines alone end them."""
    return [f"{line}\n" for line in text.removesuffix("\n").split("\n")]


def _made(block: Block) -> Block:
    """A block of which nothing is made only when it is shown."""
    return block._replace(rows=list(block.rows)) if isinstance(block, Table) else block


def _text_of(block: Block) -> str:
    if isinstance(block, Table):
        rows = ("\t".join(map(plain, row)) if isinstance(row, Sequence) else "" for row in block.rows)
        return "\n".join(("\t".join(block.header), *rows))
    return plain(block.text)


def problem_fields(error: PathError) -> dict[str, object]:
    """A problem as machine output has it."""
    return {"path": error.path, "errno": errno_name(error.errno), "message": error.reason}


def several_lines(data: bytes) -> Iterable[str]:
    """The lines of an answer, a great many at a time."""
    import io

    import zstandard

    reader = zstandard.ZstdDecompressor().stream_reader(io.BytesIO(data))
    text = io.TextIOWrapper(reader, encoding="utf-8", errors="surrogateescape", newline="")
    while piece := text.read(1 << 20):
        yield piece
