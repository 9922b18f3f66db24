"""What somebody can bring about through programs: whoever can replace what another account runs or reads, or write to
it, acts as that account the next time that it is used.

Chains are found from their ends: who has the right, or can bring it about; then who can put something into what these
run; then who into what those run.
"""

from collections.abc import Iterable
from typing import NamedTuple

from fiat.core.ask.ownmeans import OF_A_NAME, as_opened, holds
from fiat.core.model.host import Host
from fiat.core.model.principals import Universe, places
from fiat.core.model.right import CREATE, WRITE, Right
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.tree.walk import walk

_DEEPEST = 6
"""Accounts in one chain."""


class RunFile(NamedTuple):
    """Something that the user ``uid`` runs or reads, of a ``folder`` all in it; ``by`` says in words what starts it."""

    path: str
    uid: int
    by: str
    folder: bool = False
    run: bool = True


class Hop(NamedTuple):
    """That somebody puts something into ``file``, and acts as the user at ``place`` of the universe from then on."""

    file: RunFile
    place: int


def able(access: Access, route: Route, right: Right) -> int:
    """Everybody who has ``right`` at the end of ``route``, or can bring that about by their own means."""
    found = access.allowed(as_opened(route), right)
    if right in OF_A_NAME or right is CREATE:
        for hold in holds(access, route):
            found |= hold.people if hold.how in ("replace", "make") else 0
    return found


class Programs:
    """Who can put something into what whom runs: one set for each file, all people of a universe at once."""

    def __init__(self, host: Host, universe: Universe, files: Iterable[RunFile]) -> None:
        self.universe = universe
        access = Access(universe, host.settings)
        known: dict[tuple[str, bool], int] = {}
        self._into: list[tuple[RunFile, int, int]] = []  # who it is run as, and who can put something into it
        for file in dict.fromkeys(files):
            owners = universe.with_uid(file.uid) & universe.of_kind("user")
            key = file.path, file.folder
            if owners and key not in known:
                route = walk(host, file.path, interpreters=0)
                known[key] = able(access, route, CREATE if file.folder else WRITE)
            if owners and known[key] & ~owners:
                self._into.append((file, owners, known[key]))

    def chains(self, goal: int) -> dict[int, tuple[Hop, ...]]:
        """For each of those who are not among ``goal`` and can become one of them: by what, the shortest chain."""
        people = self.universe.of_kind("user") | self.universe.of_kind("anyone-else")
        found: dict[int, tuple[Hop, ...]] = {}
        reached, edge = goal, goal
        for _ in range(_DEEPEST):
            ahead = 0
            for file, owners, into in self._into:
                target = owners & edge
                new = into & people & ~reached & ~ahead if target else 0
                if new:
                    via = next(iter(places(target)))
                    for place in places(new):
                        found[place] = (Hop(file, via), *found.get(via, ()))
                    ahead |= new
            if not ahead:
                break
            reached |= ahead
            edge = ahead
        return found
