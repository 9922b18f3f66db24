"""Many objects: a table of a directory's entries or of its tree."""

from collections import Counter
from collections.abc import Iterator

from fiat.app.look import Listing
from fiat.core.ask.remarks import remarks_on
from fiat.core.model.accounts import Accounts
from fiat.core.model.fields import Fields
from fiat.core.model.kind import Kind
from fiat.core.model.mode import STICKY, WRITE, letters, octal
from fiat.core.model.posture import Object, Posture
from fiat.core.text import counted, visible
from fiat.core.tree.walk import walk
from fiat.core.words import naming
from fiat.render import words
from fiat.render.model import Block, Plain, Span, Spans, Table, Verbatim

HEADER = ("mode", "letters", "owner", "group", "more", "name")


class ListingView(Plain):
    """The rows, then what was counted; names are relative to the top."""

    def __init__(self, found: Listing) -> None:
        self.found = found
        self.accounts = found.host.accounts
        self._known: dict[Posture, tuple[Spans, ...]] = {}

    def records(self) -> Iterator[Fields]:
        """Each object with its remarks."""
        from fiat.render.objects import ObjectFields

        fields = ObjectFields(self.accounts)
        for one in self.found.objects:
            yield fields.of(one, remarks_on(one, self.accounts))

    def rows(self) -> Iterator[Fields]:
        """The same, flat."""
        from fiat.render.objects import flat_row

        return map(flat_row, self.records())

    def blocks(self) -> Iterator[Block]:
        """The table."""
        kinds: Counter[Kind] = Counter()

        def rows() -> Iterator[tuple[Spans, ...]]:
            for one in self.found.objects:
                kinds[one.posture.kind] += 1
                shared = self._known.get(one.posture)
                if shared is None:
                    shared = self._known[one.posture] = cells(one.posture, self.accounts)
                yield (*shared, self._name(one))

        yield Verbatim(visible(self.found.top))
        yield Table(HEADER, rows(), named=True)
        yield Verbatim(counts(kinds), 1)

    def _name(self, found: Object) -> Spans:
        """The name with what it is; of a symlink where it leads, and whether anything is there."""
        name = visible(found.path.removeprefix(self.found.top).lstrip("/")) + ending(found.posture.kind)
        if found.posture.kind is not Kind.SYMLINK:
            return name
        name += visible(found.target or "")
        return [name, Span(" (nowhere)", "no")] if walk(self.found.host, found.path).end is None else name


_ONE = {**words.KIND, Kind.FILE: "file"}


def cells(posture: Posture, accounts: Accounts) -> tuple[Spans, ...]:
    """All of a row but the name."""
    return (
        octal(posture.mode),
        coloured_letters(posture.mode, posture.kind),
        naming.user_or_number(posture.uid, accounts),
        naming.group_or_number(posture.gid, accounts),
        more(posture),
    )


def coloured_letters(mode: int, kind: Kind) -> Spans:
    """The nine letters, with what is open to everyone and special bits in colour."""
    text = letters(mode)
    if kind is Kind.SYMLINK:
        return text
    found = [Span(letter, "changed" if letter in "sStT" else "") for letter in text]
    if mode & WRITE and not (kind is Kind.DIRECTORY and mode & STICKY):
        found[7] = Span("w", "no")
    return found if any(one.style for one in found) else text


def more(posture: Posture) -> str:
    """What the mode does not say: lists with the number of their entries, flags, capabilities."""
    found: list[str] = []
    if posture.acl is not None:
        found.append(f"list {len(posture.acl.entries)}")
    if posture.default is not None:
        found.append(f"default {len(posture.default.entries)}")
    found += posture.flags or ()
    if posture.capabilities is not None:
        found.append("capabilities")
    return ", ".join(found)


def ending(kind: Kind) -> str:
    """What stands after the name of such an object; after that of a symlink comes where it leads."""
    return {Kind.DIRECTORY: "/", Kind.SYMLINK: " leads to ", Kind.FILE: ""}.get(kind, f" ({words.KIND[kind]})")


def counts(kinds: Counter[Kind]) -> str:
    """How many there are of each type."""
    return ", ".join(counted(count, _ONE[kind], words.KINDS[kind]) for kind, count in kinds.most_common()) or "nothing"
