"""A host as the processes of a container see it: by whose numbers, with which powers, and who has the numbers here."""

from typing import NamedTuple

from fiat.core.model import capabilities
from fiat.core.model.idmap import IdMap


class Namesake(NamedTuple):
    """An account of the host, by its name and number."""

    name: str
    uid: int


class View(NamedTuple):
    """How the process ``pid``, called ``process`` in words, sees a host.

    ``numbers`` maps those of its user namespace (inside) to those here (outside), None where they are the same.
    ``powers`` are the capabilities that its root can have at most (the bounding set, capabilities(7)). ``people`` are
    accounts of the host that have these numbers, where they are kept with it.
    """

    process: str
    numbers: IdMap | None = None
    powers: int = capabilities.ALL
    no_new_privileges: bool = False
    people: tuple[Namesake, ...] = ()

    @property
    def root(self) -> int | None:
        """The number that its root has here; None where nobody is root there."""
        return self.user_here(0)

    def user_here(self, uid: int) -> int | None:
        """The number here of one of its users."""
        return uid if self.numbers is None else self.numbers.users.outward(uid)

    def group_here(self, gid: int) -> int | None:
        """The number here of one of its groups."""
        return gid if self.numbers is None else self.numbers.groups.outward(gid)

    def user_there(self, uid: int) -> int | None:
        """What a user number here is for its processes; None where it is none of theirs."""
        return uid if self.numbers is None else self.numbers.users.inward(uid)

    def group_there(self, gid: int) -> int | None:
        """What a group number here is for its processes."""
        return gid if self.numbers is None else self.numbers.groups.inward(gid)
