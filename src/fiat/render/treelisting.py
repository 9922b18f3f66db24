"""The list of a whole tree, in every form; the heading comes at once, and the tree is read after it."""

from collections.abc import Iterator

from fiat.app.look import TreeListing
from fiat.core.text import visible
from fiat.render.listing import HEADER, counts
from fiat.render.model import Block, Plain, Table, Verbatim, Written


class TreeListingView(Plain):
    """The heading, the rows, then what was counted; names are relative to the top."""

    def __init__(self, found: TreeListing) -> None:
        self.found = found
        self.accounts = found.host.accounts

    def blocks(self) -> Iterator[Block]:
        """The table."""
        yield Verbatim(visible(self.found.top))
        from fiat.render.treerows import TreeRows  # loads NumPy

        rows = TreeRows(self.found.read(), self.accounts)
        yield Table(HEADER, rows, named=True)
        yield Verbatim(counts(rows.kinds()), 1)

    def written(self, format: str) -> Written | None:
        """A record or a row for each entry."""
        if format == "csv":
            from fiat.render.treecsv import TreeCsv  # loads NumPy

            table = TreeCsv(self.found, self.accounts)
            return Written(table.rows(), table.header())
        if format == "json":
            from fiat.render.treerecords import TreeRecords

            return Written(TreeRecords(self.found, self.accounts).json())
        return None
