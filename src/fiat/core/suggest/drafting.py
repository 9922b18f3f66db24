"""Changes of objects one by one, one after the other, and the host as it would be then."""

from collections.abc import Callable

from fiat.core.change.target import Target, target_of
from fiat.core.model.host import Host
from fiat.core.model.posture import Identity, Object, Posture
from fiat.core.model.principals import Principal
from fiat.core.model.wish import ListWish, Wish
from fiat.core.suggest.entrywishes import wish_between
from fiat.core.suggest.means import outcome
from fiat.core.tree.asif import FewPostures, HostAsIf, Supposition
from fiat.core.tree.profile import Profile
from fiat.core.tree.reading import Walked


class Drafting:
    """The changes of a way so far, which ``actor`` makes; ``then`` is the host as it would be with them.

    Only what was ``walked`` at first can be changed, and nothing that came in its place. ``steps`` are the wishes
    by path: one for each object, where one can say it all.
    """

    def __init__(self, host: Host, actor: Principal, walked: Walked) -> None:
        self._host = host
        self._walked = walked
        self.actor = actor
        self.umask = host.settings.umask
        self._postures: dict[Identity, Posture] = {}
        self._first: dict[str, Object] = {}
        self._last: dict[str, Posture] = {}
        self.steps: list[tuple[str, Wish]] = []
        self.then: Host = host

    def add(self, found: Object, wish: Wish, posture: Posture) -> None:
        """One more change, after which the object has this posture; :class:`PathError` if it is another one by now."""
        self._walked.expect(found)
        first = self._first.setdefault(found.path, found)
        known = next((place for place, (path, _) in enumerate(self.steps) if path == found.path), None)
        both = None if known is None else _both(self.steps[known][1], wish)
        if known is not None and both is not None and outcome(first, both, self.actor, self.umask) == posture:
            self.steps[known] = found.path, both
        else:
            self.steps.append((found.path, wish))
        self._postures[found.status.identity] = posture
        self._last[found.path] = posture
        self.then = HostAsIf(self._host, Supposition(FewPostures(self._postures)))

    @property
    def entries(self) -> int:
        """How many entries of lists are given or taken."""
        return sum(len(wish.access.entries) + len(wish.access.remove) for _, wish in self.steps)

    @property
    def outcomes(self) -> tuple[tuple[str, Posture], ...]:
        """What each changed object has in the end."""
        return tuple(sorted(self._last.items(), key=lambda one: one[0]))

    def targets(self) -> list[Target]:
        """What a plan changes: each object once, whatever the number of its changes."""
        wishes: dict[str, list[Wish]] = {}
        for path, wish in self.steps:
            wishes.setdefault(path, []).append(wish)
        return [
            target_of(self._host, path, self._first[path].status.identity, wish=_always(self._whole(path, some)))
            for path, some in wishes.items()
        ]

    def _whole(self, path: str, wishes: list[Wish]) -> Wish:
        """What is wished of one object, as one wish."""
        return wishes[0] if len(wishes) == 1 else wish_between(self._first[path].posture, self._last[path], wishes)


def _both(one: Wish, other: Wish) -> Wish | None:
    """Two wishes about lists as one; None where they are about something else."""
    if one != Wish(access=one.access) or other != Wish(access=other.access):
        return None
    entries = {(wish.entry.tag, wish.entry.id): wish for wish in (*one.access.entries, *other.access.entries)}
    gone = {(entry.tag, entry.id): entry for entry in (*one.access.remove, *other.access.remove)}
    remove = tuple(entry for key, entry in gone.items() if key not in entries)
    mask = other.access.mask if other.access.mask is not None else one.access.mask
    return Wish(access=ListWish(tuple(entries.values()), remove, mask))


def _always(wish: Wish) -> Callable[[Profile], Wish]:
    return lambda _: wish
