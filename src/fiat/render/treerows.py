"""The rows of a table of a whole tree: what entries have in common is put into words once."""

from collections import Counter
from collections.abc import Iterator
from operator import add

import numpy as np

from fiat.app.treelisting import Chosen
from fiat.core.model.accounts import Accounts
from fiat.core.model.kind import Kind
from fiat.core.model.posture import Posture
from fiat.core.text import visible
from fiat.core.tree.distinct import each_once
from fiat.render import lines
from fiat.render.listing import cells, ending
from fiat.render.model import Many

_ROWS = 400
"""Rows that are laid out together."""


class TreeRows:
    """The chosen entries of a tree as rows, with names relative to the top."""

    def __init__(self, chosen: Chosen, accounts: Accounts) -> None:
        self._survey, self._places = chosen
        self._accounts = accounts

    def kinds(self) -> Counter[Kind]:
        """How many entries there are of each type."""
        profiles = self._survey.profiles
        number = profiles.columns.rest[self._survey.profile[self._places]]
        found: Counter[Kind] = Counter()
        for rest, count in zip(profiles.rests, np.bincount(number, minlength=len(profiles.rests)), strict=True):
            found[rest.posture.kind] += int(count)
        return +found

    def __iter__(self) -> Iterator[Many]:
        survey = self._survey
        kinds: dict[Posture, int] = {}
        shared: list[tuple[str, ...]] = []
        kind_of = np.full(len(survey.profiles), -1, np.int64)
        ends = survey.profiles.by_rest(lambda rest: ending(rest.posture.kind), np.object_)
        targets = survey.details.targets if survey.details is not None else {}
        for some, paths in survey.paths_in_blocks(self._places, top=""):
            profile = survey.profile[some]
            for number in each_once(profile[kind_of[profile] < 0]):
                posture = survey.profiles[number].posture
                kind_of[number] = kinds.setdefault(posture, len(kinds))
                if len(kinds) > len(shared):
                    shared.append(cells(posture, self._accounts))
            names = list(map(add, lines.visible_texts(paths), ends[profile].tolist()))
            if targets:
                for at, place in enumerate(some.tolist()):
                    if place in targets:
                        names[at] += visible(targets[place])
            which = kind_of[profile].tolist()
            for first in range(0, len(names), _ROWS):
                yield Many(shared, which[first : first + _ROWS], names[first : first + _ROWS])
