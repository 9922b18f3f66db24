"""Plans: what a command would do to many paths, worked out before anything is written.

They are made in :mod:`fiat.core.change.making`.
"""

from collections.abc import Iterator
from itertools import repeat
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.effects import Effects, Shift
from fiat.core.change.planned import Item, Items, PlannedChange
from fiat.core.change.target import Target
from fiat.core.model.columns import made_of
from fiat.core.model.finding import Finding
from fiat.core.model.shown import shown
from fiat.core.text import FEW
from fiat.core.tree.postures import PosturesOfMany
from fiat.core.tree.survey import Numbers, Survey
from fiat.core.tree.walk import Extent, Trouble

NOT_MEANT = -1
"""In the place of the number of a change: this entry is not to be changed."""


class PlanPart(NamedTuple):
    """The part of a plan that is one target's: for each entry the number of its change.

    ``write`` leaves out the further names of an inode that has several. Those ``alone`` change under just one of
    their names; of those ``perhaps_alone`` that is not known.
    """

    target: Target
    number: Numbers
    write: NDArray[np.bool_]
    alone: frozenset[int] = frozenset()
    perhaps_alone: frozenset[int] = frozenset()


class Plan:
    """What a command would do.

    ``troubles`` are places under a changed directory that could not be looked
    at: gains and losses there are not counted; ``skipped`` are mounts that
    were left out there. ``shown_at`` are paths by which other mounts show what changes; ``changed_alone`` is how many
    files change under one of their names, the others staying what they are, ``perhaps_changed_alone`` of how many
    that is not known; ``names_elsewhere`` are further names of what changes,
    wherever they are. ``caveats`` are about what gains and losses were counted on, ``notes`` what is
    to be known of some of the paths besides.
    """

    def __init__(self, changes: list[PlannedChange], parts: list[PlanPart]) -> None:
        self.changes = changes
        self.parts = parts
        self.guards: list[Finding] = []
        self.effects: Effects | None = None
        self.troubles: list[Trouble] = []
        self.skipped: list[str] = []
        self.names_elsewhere = 0
        self.changed_alone = 0
        self.perhaps_changed_alone = 0
        self.shown_at: list[str] = []
        self.caveats: list[Finding] = []
        self.notes: list[Finding] = []

    def __str__(self) -> str:
        return shown(self, repr)

    @property
    def gains(self) -> tuple[Shift, ...]:
        """Who gains what; nothing where effects were not asked for, or nothing changes."""
        return self.effects.gains if self.effects is not None else ()

    @property
    def losses(self) -> tuple[Shift, ...]:
        """Who loses what; nothing where effects were not asked for, or nothing changes."""
        return self.effects.losses if self.effects is not None else ()

    def items(self) -> Iterator[Item]:
        """Everything that is meant, whether it changes or not, parents first."""
        for part in self.parts:
            yield from self._items(part, part.write)

    def numbered(self, part: PlanPart) -> Iterator[tuple[int, str]]:
        """Everything of a part that is meant: the number of its change, and its path."""
        for place, path in part.target.survey.paths_of(np.flatnonzero(part.write).tolist()):
            yield int(part.number[place]), path

    def refused(self) -> Iterator[Item]:
        """What the kernel would refuse to change."""
        refused = np.array([planned.change.errno != 0 for planned in self.changes] or [False], np.bool_)
        for part in self.parts:
            yield from self._items(part, part.write & refused[part.number])

    def _items(self, part: PlanPart, which: NDArray[np.bool_]) -> Iterator[Item]:
        survey = part.target.survey
        for places, paths in survey.paths_in_blocks(np.flatnonzero(which)):
            planned = [self.changes[number] for number in part.number[places].tolist()]
            links = np.where(survey.directories_at(places), 1, survey.links[places]).tolist()
            yield from made_of(Item, paths, survey.identities(places), planned, links, repeat(None))

    def to_write(self) -> Items:
        """What is to be written, what is in a directory before the directory.

        So a change that takes away the way in does not stand in its own way.
        What has several names is looked at by each of them, so it comes first
        of all.
        """
        shared, found = Items(self.changes), Items(self.changes)
        for part in reversed(self.parts):
            survey = part.target.survey
            places = np.flatnonzero(part.write & self.changing_in(part))[::-1]
            names = self._names_there(part, places)
            by_all = np.array([place in names for place in places.tolist()], np.bool_) if names else None
            shared.names |= {len(shared) + at: paths for at, paths in enumerate(names.values())}
            for items, some in (
                (shared, places[:0] if by_all is None else places[by_all]),
                (found, places if by_all is None else places[~by_all]),
            ):
                for block, paths in survey.paths_in_blocks(some):
                    links = np.where(survey.directories_at(block), 1, survey.links[block]).tolist()
                    items.add(paths, survey.identities(block), part.number[block].tolist(), links)
        shared.add_all(found)
        return shared

    def _names_there(self, part: PlanPart, places: NDArray[np.intp]) -> dict[int, tuple[str, ...]]:
        """Those of the places whose objects have several names, all of which are in the tree, with these."""
        survey, found = part.target.survey, dict[int, tuple[str, ...]]()
        linked = places[(survey.links[places] > 1) & ~survey.directories_at(places)].tolist()
        several = survey.several_names() if linked else {}
        for place in linked:
            names = several.get(survey.identity(place), ())
            # more than it has, where one was moved while the tree was read
            if place not in part.alone and survey.links[place] <= len(names):
                found[place] = tuple(survey.path(other) for other in names)
        return found

    def changing_in(self, part: PlanPart) -> NDArray[np.bool_]:
        """For each entry of a part, whether anything of it will be different."""
        does = np.array([planned.change.changes for planned in self.changes] or [False], np.bool_)
        found: NDArray[np.bool_] = does[part.number] & (part.number >= 0)
        return found

    @property
    def change_count(self) -> int:
        """How many objects will be different."""
        counts = zip(self.counts(), self.changes, strict=True)
        return sum(count for count, planned in counts if planned.change.changes)

    def counts(self) -> list[int]:
        """For each of ``changes``, how many objects it is for."""
        total = np.zeros(len(self.changes), np.int64)
        for part in self.parts:
            total += np.bincount(part.number[part.write], minlength=len(self.changes))
        return [int(count) for count in total]

    def examples(self) -> dict[int, str]:
        """For each change that is for something, by its number, the first path that it is for."""
        found: dict[int, str] = {}
        for part in self.parts:
            places = np.flatnonzero(part.write)
            first = dict(zip(part.number[places][::-1].tolist(), places[::-1].tolist(), strict=True))
            number_at = {place: number for number, place in first.items()}
            for place, path in part.target.survey.paths_of(sorted(number_at)):
                found.setdefault(number_at[place], path)
        return found

    def paths_of_few(self) -> dict[int, list[str]]:
        """For each change that is for a few paths, by its number, all of these."""
        few = np.array([0 < count <= FEW for count in self.counts()], np.bool_)
        found: dict[int, list[str]] = {}
        for part in self.parts if few.any() else ():
            places = np.flatnonzero(part.write & (part.number >= 0))
            for place, path in part.target.survey.paths_of(places[few[part.number[places]]].tolist()):
                found.setdefault(int(part.number[place]), []).append(path)
        return found

    def postures_after(self) -> PosturesOfMany:
        """What everything that changes will be, once the plan is carried out."""
        postures = [planned.change.after for planned in self.changes]
        filesystems: dict[str, int] = {}
        inode, birth, filesystem, number = [], [], [], []
        for part in self.parts:
            survey = part.target.survey
            places = np.flatnonzero(part.write & self.changing_in(part))
            systems = survey.profiles.by_rest(
                lambda rest: filesystems.setdefault(rest.filesystem, len(filesystems)), np.int32
            )
            inode.append(survey.inode[places])
            birth.append(survey.birth[places])
            filesystem.append(systems[survey.profile[places]])
            number.append(part.number[places])
        nothing = np.zeros(0, np.int32)
        return PosturesOfMany(
            postures,
            list(filesystems),
            np.concatenate([nothing.astype(np.uint64), *inode]),
            np.concatenate([nothing.astype(np.int64), *birth]),
            np.concatenate([nothing, *filesystem]),
            np.concatenate([nothing, *number]),
        )


Surveys = dict[tuple[str, Extent], Survey]
"""What was read under changed directories: several plans about the same read it once."""
