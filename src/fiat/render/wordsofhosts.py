"""Sets of the hosts of a fleet in words, and as machine output has them."""

from collections.abc import Iterator, Sequence

from fiat.core.state.fleet import Clash, SamePeople, members
from fiat.core.text import Fields, joined, several, visible
from fiat.render.model import Block, Prose

_NAMED = 20
"""So many hosts of a result are named in JSON."""

_FEW = 8
"""So many hosts of a row of text are named."""

_CLASHES = 3
"""So many names with several numbers are told in text."""


class WordsOfHosts:
    """Writes sets of hosts with these names, in their order."""

    def __init__(self, names: Sequence[str]) -> None:
        self.names = names

    def places(self, hosts: int) -> Iterator[int]:
        """The places of those in a set."""
        return members(hosts)

    def words(self, hosts: int) -> str:
        """``cliff``, or ``3 hosts: cliff, holm, ness``."""
        names = [visible(self.names[place]) for place in members(hosts)]
        return names[0] if len(names) == 1 else f"{len(names):,} hosts: {several(names, show=_FEW)}"

    def fields(self, hosts: int) -> Fields:
        """Their names, of many the first."""
        names = [self.names[place] for place in members(hosts)]
        if len(names) <= _NAMED:
            return {"hosts": names}
        return {"hosts": {"count": len(names), "names": names[:_NAMED], "more": len(names) - _NAMED}}

    def clash_blocks(self, clashes: Sequence[Clash], same_people: SamePeople) -> Iterator[Block]:
        """That people who are taken for the same are told apart elsewhere, in one line."""
        if clashes:
            such = joined(self._clash_words(clash) for clash in clashes[:_CLASHES])
            more = f"; and {len(clashes) - _CLASHES:,} more, which --json has" if len(clashes) > _CLASHES else ""
            what = ("name", "number") if same_people == "name" else ("number", "name")
            yield Prose(f"Note: the same {what[0]} with another {what[1]} is taken for the same: {such}{more}", 0, "  ")

    def _clash_words(self, clash: Clash) -> str:
        each = joined(f"{visible(str(what))} on {self.words(hosts)}" for what, hosts in clash.others)
        return f"{clash.kind} {visible(str(clash.what))} is {each}"

    def clash_fields(self, clashes: Sequence[Clash], same_people: SamePeople) -> list[Fields]:
        """The same for machines: each, with the hosts of every other name or number."""
        what, other = ("name", "number") if same_people == "name" else ("number", "name")
        return [
            {
                "kind": one.kind,
                what: one.what,
                "others": [{other: said, **self.fields(hosts)} for said, hosts in one.others],
            }
            for one in clashes
        ]
