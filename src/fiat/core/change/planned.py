"""What a plan holds for an object: its change, and what is to be said of it."""

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from fiat.core.change.steps import Change
from fiat.core.model.finding import Finding
from fiat.core.model.posture import Identity
from fiat.core.tree.profile import Profile


class PlannedChange(NamedTuple):
    """A change with what is to be said of it; one for all entries with the profile that it starts from.

    ``known`` tells that they had what comes out before, with the same contents; ``held`` that only flags
    keep it from being made, and the one who acts could clear these and set them again.
    """

    profile: Profile
    change: Change
    notes: tuple[Finding, ...] = ()
    known: bool = False
    held: bool = False


class Item(NamedTuple):
    """One object and its change.

    ``links`` is how many names it has. ``names`` are all of these where it has
    several and all are in the tree, and None where they are not, or where
    nobody minds.
    """

    path: str
    identity: Identity
    planned: PlannedChange
    links: int = 1
    names: tuple[str, ...] | None = None

    @property
    def change(self) -> Change:
        """The change of the object, without what is said of it."""
        return self.planned.change


class Items:
    """Objects and their changes, column by column: there may be very many.

    ``planned`` are what is planned for any of them: for each what stands there at its number. ``names`` are those of
    :class:`Item`, by the place of the object.
    """

    def __init__(self, planned: Sequence[PlannedChange] = ()) -> None:
        self.planned = planned
        self.paths: list[str] = []
        self.identities: list[Identity] = []
        self.numbers: list[int] = []
        self.links: list[int] = []
        self.names: dict[int, tuple[str, ...]] = {}

    @classmethod
    def of(cls, items: Iterable[Item]) -> "Items":
        """These items."""
        every = list(items)
        found = cls([item.planned for item in every])
        for number, item in enumerate(every):
            found.add([item.path], [item.identity], [number], [item.links])
            if item.names is not None:
                found.names[number] = item.names
        return found

    def add(
        self, paths: Iterable[str], identities: Iterable[Identity], numbers: Iterable[int], links: Iterable[int]
    ) -> None:
        """Add objects, none of which is looked at by all of its names."""
        self.paths += paths
        self.identities += identities
        self.numbers += numbers
        self.links += links

    def add_all(self, others: "Items") -> None:
        """Add the objects of others, which have the same plan."""
        self.names |= {len(self) + place: names for place, names in others.names.items()}
        self.add(others.paths, others.identities, others.numbers, others.links)

    def __len__(self) -> int:
        return len(self.paths)

    def __getitem__(self, place: int) -> Item:
        planned = self.planned[self.numbers[place]]
        return Item(self.paths[place], self.identities[place], planned, self.links[place], self.names.get(place))

    def __iter__(self) -> Iterator[Item]:
        return map(self.__getitem__, range(len(self)))
