"""What a plan holds for an object: its change, and what is to be said of it."""

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
