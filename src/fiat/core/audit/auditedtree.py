"""What a rule of an audit is, what it looks at (one tree, who can do what in it, what else is known of the host), and
what it finds."""

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.who import universe_of
from fiat.core.audit.evidence import Evidence
from fiat.core.model import right as rights_
from fiat.core.model.host import Host
from fiat.core.model.posture import Identity, Kind, Object
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.model.wish import Wish
from fiat.core.rules.access import Access
from fiat.core.text import visible
from fiat.core.tree.answerkeys import Answers
from fiat.core.tree.answers import for_tree
from fiat.core.tree.distinct import distinct_values
from fiat.core.tree.inside import RoutesInside
from fiat.core.tree.profile import Profile
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import route_for, walk

Places = NDArray[np.int64]
"""Entries of a survey, by place."""


class Mend(NamedTuple):
    """What mends it: a change of what was found, or of the objects ``at`` other paths.

    ``chosen`` are the options that choose just this in a whole tree, where there are such.
    """

    wish: Wish
    at: tuple[str, ...] = ()
    chosen: tuple[str, ...] = ()


class RuleFinding(NamedTuple):
    """Some entries of a tree of which a rule says the same.

    ``people`` is the set of those who can really use it, the whole way there counted in. Of what
    is wrong with something on the way, ``mend`` names that.
    """

    weight: str
    text: str
    places: Places
    people: int = 0
    mend: Mend | None = None


_KERNELS_OWN = frozenset(
    (
        "proc sysfs cgroup cgroup2 debugfs tracefs securityfs pstore bpf configfs fusectl mqueue hugetlbfs devpts "
        "efivarfs binfmt_misc selinuxfs autofs rpc_pipefs nsfs"
    ).split()
)
"""File systems of which the kernel makes every object, with the posture that it needs."""

_RIGHTS = (rights_.READ, rights_.WRITE, rights_.EXECUTE)


class AuditedTree:
    """One tree of a host. Sets of people are bit sets of ``universe``; ``rights`` are what trees are asked for."""

    def __init__(
        self,
        host: Host,
        route: Route,
        survey: Survey,
        evidence: Evidence,
        rights: Sequence[Right] = _RIGHTS,
    ) -> None:
        self.host = host
        self.accounts = host.accounts
        self.route = route
        self.survey = survey
        self.evidence = evidence
        self.rights = tuple(rights)
        self._allowed: dict[tuple[str, Right], int] = {}
        self._routes: dict[str, Route] = {}
        self.remarks: dict[str, list[tuple[list[int], str]]] = {}
        postures = [found.posture for found in route.objects]
        self.universe = universe_of(host.accounts, postures, profiles=[survey.profiles])
        self.root = self.universe.with_uid(0)
        self.others = (self.universe.of_kind("user") | self.universe.of_kind("anyone-else")) & ~self.root
        """Everybody but root; memberships that nobody has are nobody."""

    # --- postures, by profile ---

    @cached_property
    def columns(self) -> "tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]":
        """For each entry its mode, owner and group."""
        columns, profile = self.survey.profiles.columns, self.survey.profile
        return columns.mode[profile], columns.uid[profile], columns.gid[profile]

    @cached_property
    def files(self) -> NDArray[np.bool_]:
        """For each entry whether it is a regular file."""
        found: NDArray[np.bool_] = self.by_rest(lambda rest: rest.posture.kind is Kind.FILE)
        return found

    @cached_property
    def directories(self) -> NDArray[np.bool_]:
        """For each entry whether it is a directory."""
        return self.survey.directories()

    @cached_property
    def kernels_own(self) -> list[str]:
        """The mount points of file systems whose objects the kernel makes by itself."""
        mounts = {rest.mount for rest in self.survey.profiles.rests if rest.mount is not None}
        return [mount.point for mount in mounts if mount.type in _KERNELS_OWN]

    @cached_property
    def judged(self) -> NDArray[np.bool_]:
        """For each entry whether it is judged: what the kernel makes by itself is not."""
        return ~self.by_rest(lambda rest: rest.mount is not None and rest.mount.type in _KERNELS_OWN)

    def by_rest(self, says: Callable[[Profile], bool]) -> NDArray[np.bool_]:
        """For each entry what is so of its type, flags, program and mount."""
        found: NDArray[np.bool_] = self.survey.profiles.by_rest(says)[self.survey.profile]
        return found

    def with_profiles(self, numbers: Sequence[int]) -> Places:
        """The entries that have one of these profiles."""
        order, bounds = self._by_profile
        return np.sort(np.concatenate([order[bounds[number] : bounds[number + 1]] for number in numbers]))

    @cached_property
    def _by_profile(self) -> "tuple[NDArray[np.int64], NDArray[np.int64]]":
        """The entries in the order of their profiles, and where those of each begin."""
        order = np.argsort(self.survey.profile, kind="stable")
        count = len(self.survey.profiles)
        return order, np.searchsorted(self.survey.profile[order], np.arange(count + 1))

    # --- who can do what ---

    @cached_property
    def _answers(self) -> Answers:
        access = for_tree(self.host, self.universe, self.rights, self.route, self.survey)
        return access.answers(self.survey, self.route)

    def by_people(self, places: Places, right: Right) -> Iterator[tuple[int, Places]]:
        """The entries at ``places`` by the set of those who have ``right`` there; the others are left out."""
        number, keys = self._answers
        column = keys.numbers[:, self.rights.index(right)][number[places]]
        applies = column >= 0
        distinct, which = distinct_values(column[applies].astype(np.int64))
        for place, one in enumerate(distinct.tolist()):
            yield keys.table[one], places[applies][which == place]

    def open_to(self, places: Places, right: Right) -> Iterator[tuple[int, int, Places]]:
        """The entries at ``places`` by the set of those who surely have ``right`` there, and of those of whom it is not
        known."""
        number, keys = self._answers
        distinct, which = distinct_values(number[places].astype(np.int64))
        column = self.rights.index(right)
        for place, one in enumerate(distinct.tolist()):
            having, opened = keys[one][column], keys.open(one)[column]
            if having is not None and opened is not None:
                yield having, opened, places[which == place]

    def by_others(self, places: Places, right: Right) -> Iterator[tuple[int, Places]]:
        """Who else than root and each owner has ``right`` at these places: each set of people, with its places."""
        _, uid, _ = self.columns
        for bits, some in self.by_people(places, right):
            among = bits & self.others
            owners, which = distinct_values(uid[some])
            split: dict[int, list[Places]] = {}
            for place, owner in enumerate(owners.tolist()):
                split.setdefault(among & ~self.universe.with_uid(owner), []).append(some[which == place])
            for people, parts in split.items():
                yield people, np.sort(np.concatenate(parts))

    @cached_property
    def access(self) -> Access:
        """Access for the same people along single routes."""
        return Access(self.universe, self.host.settings)

    def allowed(self, path: str, right: Right) -> int:
        """Who has ``right`` on one path; nobody where it means nothing."""
        found = self._allowed.get((path, right))
        if found is None:
            route = route_for(self.host, path, right)
            applies = route.end is not None and right.applies(route.end.posture.kind)
            found = self._allowed[path, right] = self.access.allowed(route, right) if applies else 0
        return found

    def walk(self, path: str) -> Route:
        """The route to a path, with what runs it."""
        found = self._routes.get(path)
        if found is None:
            found = self._routes[path] = walk(self.host, path, to_run=True)
        return found

    # --- by other names ---

    @cached_property
    def may_be_elsewhere(self) -> NDArray[np.bool_]:
        """For each entry whether it has other names than its own, or another mount shows it too."""
        shown = self.by_rest(lambda rest: rest.mount is not None and bool(rest.mount.beside))
        return shown | ((self.survey.links > 1) & ~self.directories)

    @cached_property
    def _several_names(self) -> dict[Identity, list[int]]:
        return self.survey.several_names()

    def by_other_names(self, place: int, right: Right) -> tuple[int, str]:
        """Who else has ``right`` on an entry by another name of it, and what is to be said of that; what is open in the
        tree itself is told there."""
        found, path = self.object(place), self.path(place)
        people = 0
        open_at: list[str] = []
        mount = found.mount
        for other in mount.elsewhere(path) if mount is not None else ():
            some = self.allowed(other, right) & self.others & ~self.universe.with_uid(found.posture.uid)
            if some:
                people, open_at = people | some, [*open_at, other]
        if open_at:
            return people, f"; nobody else gets there by this path, but at {visible(open_at[0])} it is shown, too"
        if not found.posture.directory and int(self.survey.links[place]) > 1:
            outside = int(self.survey.links[place]) - len(self._several_names[self.survey.identity(place)])
            if outside > 0:
                other = "another name" if outside == 1 else f"{outside:,} other names"
                return 0, f"; nobody else gets there by this name, but it has {other}, not seen here"
        return 0, ""

    # --- single entries ---

    @cached_property
    def inside(self) -> RoutesInside:
        """The routes to the entries, by their real paths."""
        return RoutesInside(walk(self.host, self.survey.top.path, follow=False, interpreters=0), self.survey)

    def path(self, place: int) -> str:
        """The path of an entry."""
        return self.survey.path(int(place))

    def paths(self, places: Places) -> list[str]:
        """The paths of entries, in their order."""
        return [path for _, path in self.survey.paths_of(places.tolist())]

    def object(self, place: int) -> Object:
        """An entry as an object."""
        return self.survey.object(int(place))

    def places_of(self, paths: Sequence[str]) -> dict[str, int]:
        """Where those of ``paths`` are that are in the tree, by path; symlinks are not followed."""
        top = self.survey.top.path.rstrip("/")
        found: dict[str, int] = {}
        known: dict[str, int | None] = {top: 0}
        for path in paths:
            whole = path.rstrip("/") or "/"
            if whole == self.survey.top.path:
                found[path] = 0
                continue
            if not whole.startswith(f"{top}/"):
                continue
            here: int | None = 0
            so_far = top
            for name in whole[len(top) + 1 :].split("/"):
                above, so_far = here, f"{so_far}/{name}"
                if so_far not in known:
                    known[so_far] = None if above is None else self._child(above, name)
                here = known[so_far]
            if here is not None:
                found[path] = here
        return found

    def _child(self, directory: int, name: str) -> int | None:
        children = self._children.get(directory)
        if children is None:
            places = np.flatnonzero(self.survey.parent == directory)
            children = dict(zip(self.survey.names(places), places.tolist(), strict=True))
            self._children[directory] = children
        return children.get(name)

    @cached_property
    def _children(self) -> dict[int, dict[str, int]]:
        return {}

    def below(self, place: int) -> Places:
        """The places of everything under an entry, without the entry itself."""
        return np.arange(place + 1, int(self.survey.end[place]))


NOBODY = "; nobody but root, or its owner, gets there"


def by_use(
    audited: AuditedTree, places: Places, right: Right, weight: str, text: str, mend: Mend | None = None
) -> Iterator[RuleFinding]:
    """What is found at ``places``: of ``weight`` where others can really use it by having ``right``, and else plain."""
    for people, some in audited.by_others(places, right):
        if people:
            yield RuleFinding(weight, text, some, people, mend)
        else:
            yield from _by_other_names(audited, some, right, weight, text, mend)


def _by_other_names(
    audited: AuditedTree, places: Places, right: Right, weight: str, text: str, mend: Mend | None
) -> Iterator[RuleFinding]:
    """What nobody else gets to by the names that were walked, as far as no other name is known or possible."""
    maybe = audited.may_be_elsewhere[places]
    if (~maybe).any():
        yield RuleFinding("plain", text + NOBODY, places[~maybe], 0, mend)
    for place in places[maybe].tolist():
        people, words = audited.by_other_names(place, right)
        heavy = weight if people else "odd" if words else "plain"
        yield RuleFinding(heavy, text + (words or NOBODY), np.array([place]), people, mend)


class Rule(NamedTuple):
    """One thing that an audit looks for.

    ``about`` says in a few words what, ``why`` in a sentence why it matters. A rule that is
    looked for only where it is ``asked`` for takes long, or reads what nobody expects to be read.
    """

    code: str
    about: str
    why: str
    find: Callable[[AuditedTree], Iterator[RuleFinding]]
    asked: bool = False
