"""A tree's answers: every object with who has which right, equal answers together."""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from fiat.core.access import Access, applies
from fiat.core.host import Host, Node
from fiat.core.mode import EXECUTE
from fiat.core.posture import Object
from fiat.core.route import Route, Stage, walk
from fiat.core.survey import Trouble, below

AnswerKey = tuple[int | None, ...]
"""For each right asked: the set of principals that have it, or None where it does not apply."""


class Found(NamedTuple):
    """One object of a tree and its answer."""

    object: Object
    answer: AnswerKey


class Group(NamedTuple):
    """All the objects of a tree with one answer.

    ``first`` holds, of the directories, those whose parent has another answer,
    and of other objects the directories they are in; ``places`` how many such
    there are. ``example`` is the first object itself.
    """

    answer: AnswerKey
    directories: int
    others: int
    first: tuple[str, ...]
    places: int
    example: str


class Tree:
    """A tree, read once; afterwards it answers for each object in it.

    Reading comes first and whole, because everyone who owns or is named on
    anything in the tree is a principal everywhere in it. ``skipped`` holds the
    mount points that were not entered, ``troubles`` what could not be looked
    at.
    """

    def __init__(self, host: Host, route: Route, node: Node, *, across_mounts: bool) -> None:
        assert route.end is not None
        self.host = host
        self.route = route
        self.objects: list[Object] = [route.end]
        self.skipped: list[str] = []
        self.troubles: list[Trouble] = []
        self._entered: dict[str, Object] = {}
        self._interpreters: dict[str, Route] = {}
        if route.end.posture.directory:
            self._read(route.end, node, across_mounts)

    def _read(self, top: Object, node: Node, across_mounts: bool) -> None:
        def enter(directory: Object) -> bool:
            if directory is not top and not across_mounts and directory.mount != top.mount:
                self.skipped.append(directory.path)
                return False
            self._entered[directory.path] = directory
            return True

        self.objects += below(node, top, enter, self.troubles.append)

    def answers(self, access: Access, rights: Sequence[str]) -> Iterator[Found]:
        """Every object with who has which of ``rights``, parents first."""
        top = self.objects[0]
        reaches = {top.path: access.reach(self.route)}
        yield Found(top, self._answer(access, rights, top, self.route.stages, reaches[top.path]))
        self._reach_inside(access, top, reaches)
        for found in self.objects[1:]:
            parent = found.path.rpartition("/")[0] or "/"
            stages = (Stage(self._entered[parent]),)
            yield Found(found, self._answer(access, rights, found, stages, reaches[parent]))
            if found.posture.directory:
                reaches[found.path] = reaches[parent]
                self._reach_inside(access, found, reaches)

    def _reach_inside(self, access: Access, directory: Object, reaches: dict[str, int]) -> None:
        reaches[directory.path] &= access.decisions.of(directory.posture).allowed(EXECUTE)

    def _answer(
        self, access: Access, rights: Sequence[str], found: Object, stages: tuple[Stage, ...], reach: int
    ) -> AnswerKey:
        """The rights on ``found`` of those that reach it; a symlink has only those on its name."""
        interpreter = None
        if found.script is not None and "execute" in rights:
            interpreter = self._interpreters.get(found.script)
            if interpreter is None:
                interpreter = self._interpreters[found.script] = walk(self.host, found.script)
        route = Route(found.path, stages, found, interpreter=interpreter)
        kind = found.posture.kind
        return tuple(reach & access.allowed(route, right) if applies(right, kind) else None for right in rights)


class Summary:
    """Puts objects with equal answers together, as they come."""

    def __init__(self, show: int = 3) -> None:
        self._show = show
        self._counts: dict[AnswerKey, list[int]] = {}
        self._first: dict[AnswerKey, list[str]] = {}
        self._places: dict[AnswerKey, set[str]] = {}
        self._of_directory: dict[str, AnswerKey] = {}
        self._example: dict[AnswerKey, str] = {}

    def add(self, found: Found) -> None:
        """Count one object; parents come first."""
        path, key = found.object.path, found.answer
        counts = self._counts.setdefault(key, [0, 0])
        self._example.setdefault(key, path)
        parent = path.rpartition("/")[0] or "/"
        if found.object.posture.directory:
            counts[0] += 1
            self._of_directory[path] = key
            if self._of_directory.get(parent) != key or path == "/":
                self._note(key, path)
        else:
            counts[1] += 1
            self._note(key, parent)

    def _note(self, key: AnswerKey, place: str) -> None:
        places = self._places.setdefault(key, set())
        if place not in places:
            places.add(place)
            first = self._first.setdefault(key, [])
            if len(first) < self._show:
                first.append(place)

    def groups(self) -> list[Group]:
        """The distinct answers, the most frequent first."""
        found = [
            Group(
                answer=key,
                directories=counts[0],
                others=counts[1],
                first=tuple(self._first.get(key, ())),
                places=len(self._places.get(key, ())),
                example=self._example[key],
            )
            for key, counts in self._counts.items()
        ]
        return sorted(found, key=lambda group: group.directories + group.others, reverse=True)
