"""Many objects: a table of a directory's entries or of its tree."""

from collections import Counter
from collections.abc import Iterator

from fiat.app.look import Listing
from fiat.core.ask.remarks import remarks_on
from fiat.core.model.accounts import Accounts
from fiat.core.model.fields import Fields
from fiat.core.model.kind import Kind
from fiat.core.model.mode import letters, octal
from fiat.core.model.posture import Object, Posture
from fiat.core.text import counted, visible
from fiat.core.words import naming
from fiat.render import words
from fiat.render.model import Block, Plain, Table, Verbatim

HEADER = ("mode", "letters", "owner", "group", "more", "name")


class ListingView(Plain):
    """The rows, then what was counted; names are relative to the top."""

    def __init__(self, found: Listing) -> None:
        self.found = found
        self.accounts = found.host.accounts
        self._known: dict[Posture, tuple[str, ...]] = {}

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

        def rows() -> Iterator[tuple[str, ...]]:
            for one in self.found.objects:
                kinds[one.posture.kind] += 1
                shared = self._known.get(one.posture)
                if shared is None:
                    shared = self._known[one.posture] = cells(one.posture, self.accounts)
                yield (*shared, _name(one, self.found.top))

        yield Verbatim(visible(self.found.top))
        yield Table(HEADER, rows())
        yield Verbatim(counts(kinds), 1)


_ONE = {**words.KIND, Kind.FILE: "file"}


def cells(posture: Posture, accounts: Accounts) -> tuple[str, ...]:
    """All of a row but the name."""
    return (
        octal(posture.mode),
        letters(posture.mode),
        naming.user_or_number(posture.uid, accounts),
        naming.group_or_number(posture.gid, accounts),
        more(posture),
    )


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


def _name(found: Object, top: str) -> str:
    name = visible(found.path.removeprefix(top).lstrip("/")) + ending(found.posture.kind)
    return name + visible(found.target or "") if found.posture.kind is Kind.SYMLINK else name


def ending(kind: Kind) -> str:
    """What stands after the name of such an object; after that of a symlink comes where it leads."""
    return {Kind.DIRECTORY: "/", Kind.SYMLINK: " leads to ", Kind.FILE: ""}.get(kind, f" ({words.KIND[kind]})")


def counts(kinds: Counter[Kind]) -> str:
    """How many there are of each type."""
    return ", ".join(counted(count, _ONE[kind], words.KINDS[kind]) for kind, count in kinds.most_common()) or "nothing"
