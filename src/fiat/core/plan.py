"""What edits over many paths do together: who gains and who loses which right."""

from collections import Counter
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from fiat.core import route as routes
from fiat.core.access import RIGHTS, Access, applies
from fiat.core.edit import Edit
from fiat.core.host import Host
from fiat.core.mode import EXECUTE
from fiat.core.posture import Object, Posture
from fiat.core.principals import places
from fiat.core.route import Route
from fiat.core.shift import Shift
from fiat.core.survey import Trouble, below


class Plan(NamedTuple):
    """What a change would do, made before anything is written.

    ``troubles`` are places under a changed directory that could not be looked
    at: gains and losses there are not counted.
    """

    edits: tuple[Edit, ...]
    gains: tuple[Shift, ...]
    losses: tuple[Shift, ...]
    troubles: tuple[Trouble, ...]

    @property
    def changes(self) -> tuple[Edit, ...]:
        """The edits that make a difference."""
        return tuple(edit for edit in self.edits if edit.changes)


def make(host: Host, edits: Iterable[Edit], access: Access) -> Plan:
    """The plan for ``edits``, whose objects are at their paths on ``host``."""
    edits = tuple(edits)
    effect = _Effect(host, access, {edit.object.status.inode: edit.after for edit in edits if edit.changes})
    for edit in sorted(edits, key=lambda edit: edit.object.path):
        if edit.changes:
            effect.of_change_at(edit.object.path)
    return Plan(edits, effect.shifts(effect.gained), effect.shifts(effect.lost), tuple(effect.troubles))


class _Effect:
    """Counts, over the changed objects and what lies under them, who gains and who loses."""

    def __init__(self, host: Host, access: Access, after: Mapping[tuple[int, int], Posture]) -> None:
        self.host = host
        self.access = access
        self.after = after
        self.seen: set[str] = set()
        self.gained: Counter[tuple[str, int]] = Counter()
        self.lost: Counter[tuple[str, int]] = Counter()
        self.troubles: list[Trouble] = []

    def of_change_at(self, path: str) -> None:
        if path in self.seen:
            return
        route, node = routes.open_end(self.host, path, follow=False)
        if node is None or route.end is None:
            return
        try:
            before = self.access.reach(route)
            after = self.access.reach(self._changed_route(route))
            reaches = {route.end.path: (before, after)}
            self._count(route.end, before, after)

            def enter(directory: Object) -> bool:
                return self._enter(directory, reaches)

            for found in below(node, route.end, enter, self.troubles.append):
                before, after = reaches[found.path.rpartition("/")[0] or "/"]
                if found.path not in self.seen:
                    self._count(found, before, after)
                if found.posture.directory:
                    reaches[found.path] = (before, after)
        finally:
            node.close()

    def _enter(self, directory: Object, reaches: dict[str, tuple[int, int]]) -> bool:
        """Replace the reach of ``directory`` by that of what is in it; no need to go in where that stays."""
        before, after = reaches[directory.path]
        before &= self.access.decisions.of(directory.posture).allowed(EXECUTE)
        after &= self.access.decisions.of(self._posture_after(directory)).allowed(EXECUTE)
        reaches[directory.path] = (before, after)
        return before != after

    def _count(self, found: Object, reach_before: int, reach_after: int) -> None:
        self.seen.add(found.path)
        changed = found._replace(posture=self._posture_after(found))
        for right in RIGHTS:
            if not applies(right, found.posture.kind):
                continue
            before = reach_before & self._allowed(found, right)
            after = reach_after & self._allowed(changed, right)
            if after & ~before:
                self.gained[right, after & ~before] += 1
            if before & ~after:
                self.lost[right, before & ~after] += 1

    def _allowed(self, found: Object, right: str) -> int:
        """Who has ``right`` on ``found`` among those that reach it."""
        interpreter = routes.walk(self.host, found.script) if right == "execute" and found.script else None
        return self.access.allowed(Route(found.path, (), found, interpreter=interpreter), right)

    def _posture_after(self, found: Object) -> Posture:
        return self.after.get(found.status.inode, found.posture)

    def _changed_route(self, route: Route) -> Route:
        stages = tuple(
            stage._replace(object=stage.object._replace(posture=self._posture_after(stage.object)))
            for stage in route.stages
        )
        return route._replace(stages=stages)

    def shifts(self, counted: Counter[tuple[str, int]]) -> tuple[Shift, ...]:
        """The counts by principal, in the order of the rights and of the universe."""
        totals: Counter[tuple[int, int]] = Counter()
        for (right, bits), paths in counted.items():
            for place in places(bits):
                totals[RIGHTS.index(right), place] += paths
        principals = self.access.universe.principals
        return tuple(Shift(principals[place], RIGHTS[right], totals[right, place]) for right, place in sorted(totals))
