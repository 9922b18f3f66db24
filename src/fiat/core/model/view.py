"""A host as the processes of a container see it: by whose numbers, with which powers, and who has the numbers here."""

from typing import NamedTuple

from fiat.core.model import capabilities
from fiat.core.model.idmap import IdMap, NumberMap


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
        return self.here(0, users=True)

    def here(self, number: int, *, users: bool) -> int | None:
        """What a number there, of a user or else of a group, is on the host; None where it is none."""
        return number if self.numbers is None else self._kind(users).outward(number)

    def there(self, number: int, *, users: bool) -> int | None:
        """What a number of the host is there, for a user or else for a group; None where it is none of theirs."""
        return number if self.numbers is None else self._kind(users).inward(number)

    def _kind(self, users: bool) -> NumberMap:
        assert self.numbers is not None
        return self.numbers.users if users else self.numbers.groups
