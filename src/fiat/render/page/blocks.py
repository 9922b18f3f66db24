"""What a result says as text, as HTML: the same blocks, with every character of a name escaped."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from markupsafe import Markup, escape

from fiat.render.model import UNBROKEN, Block, FullLine, LongTable, Row, Spans, Table, Verbatim, plain, spans


def html(blocks: Iterable[Block]) -> Markup:
    """Blocks as HTML: paragraphs, lines that are not wrapped, and tables."""
    return Markup("\n").join(part for block in blocks for part in _block(block))


def _block(block: Block) -> Iterator[Markup]:
    if isinstance(block, Table):
        yield from _table(block)
        return
    if not plain(block.text).strip():
        return
    kind = "line" if isinstance(block, Verbatim) else "prose"
    yield Markup('<p class="{} in{}">{}</p>').format(kind, min(block.indent, 4), text(block.text))


def _table(table: Table) -> Iterator[Markup]:
    rows = [row for row in table.rows if not isinstance(row, LongTable)]
    if not rows:
        return
    head = Markup("")
    if any(table.header):
        cells = Markup("").join(Markup('<th scope="col">{}</th>').format(text(cell)) for cell in table.header)
        head = Markup("<thead><tr>{}</tr></thead>").format(cells)
    body = Markup("\n").join(_row(row, len(table.header)) for row in rows)
    # a row that goes on with the one above it must stay below it
    plain_rows = any(table.header) and not any(isinstance(row, FullLine) or not plain(row[0]).strip() for row in rows)
    sortable = Markup(" data-sortable") if plain_rows else ""
    yield Markup('<div class="wide"><table{}>{}<tbody>{}</tbody></table></div>').format(sortable, head, body)


def _row(row: Row, columns: int) -> Markup:
    if isinstance(row, FullLine):
        return Markup('<tr class="over"><th colspan="{}" scope="rowgroup">{}</th></tr>').format(columns, text(row.text))
    assert not isinstance(row, LongTable)
    return Markup("<tr>{}</tr>").format(Markup("").join(Markup("<td>{}</td>").format(text(cell)) for cell in row))


def text(given: Spans) -> Markup:
    """Text with its styles; what is to stay in one piece does."""
    return Markup("").join(
        Markup('<span class="{}">{}</span>').format(span.style, _whole(span.text)) if span.style else _whole(span.text)
        for span in spans(given)
    )


def _whole(words: str) -> Markup:
    if UNBROKEN not in words:
        return escape(words)
    return Markup(" ").join(map(_in_one_piece, words.split(" ")))


def _in_one_piece(word: str) -> Markup:
    if UNBROKEN not in word:
        return escape(word)
    return Markup('<span class="whole">{}</span>').format(word.replace(UNBROKEN, " "))
