"""The rows of a table of a whole tree: what entries have in common is put into words once."""

from collections import Counter
from collections.abc import Callable, Iterator
from operator import add, itemgetter

import numpy as np
from numpy.typing import NDArray

from fiat.app.treelisting import Chosen
from fiat.core.model.accounts import Accounts
from fiat.core.model.kind import Kind
from fiat.core.model.mode import octal
from fiat.core.text import visible
from fiat.core.tree.distinct import distinct_columns, first_places
from fiat.core.tree.profiles import Profiles
from fiat.core.words import naming
from fiat.render import lines
from fiat.render.listing import coloured_letters, ending, more
from fiat.render.model import Many, Some, Spans
from fiat.render.several import by_several


class TreeRows:
    """The chosen entries of a tree as rows, with names relative to the top."""

    def __init__(self, chosen: Chosen, accounts: Accounts) -> None:
        self._survey, self._places = chosen
        self._accounts = accounts

    def kinds(self) -> Counter[Kind]:
        """How many entries there are of each type, in the order in which they are first met."""
        kinds = list(Kind)
        of_profile = self._survey.profiles.by_rest(lambda rest: kinds.index(rest.posture.kind), np.int64)
        number = of_profile[self._survey.profile[self._places]]
        counts = np.bincount(number, minlength=len(kinds)).tolist()
        met = sorted(zip(first_places(number, len(kinds)).tolist(), kinds, counts, strict=True), key=itemgetter(0))
        return Counter({kind: count for _, kind, count in met if count})

    def __iter__(self) -> Iterator[Many]:
        survey, places = self._survey, self._places
        if not len(places):
            return
        used = np.flatnonzero(np.bincount(survey.profile[places], minlength=len(survey.profiles)))
        cells = zip(*self._columns(survey.profiles.taken(used)), strict=True)
        yield Many(
            dict(zip(used.tolist(), cells, strict=True)),
            lambda layout: by_several(places, lambda some: map(layout, self._some(some)), "\n"),
        )

    def _some(self, places: NDArray[np.int64]) -> Iterator[Some]:
        """The rows of some of the entries."""
        survey = self._survey
        ends = survey.profiles.by_rest(lambda rest: ending(rest.posture.kind), np.object_)
        targets = survey.details.targets if survey.details is not None else {}
        for some, paths in survey.paths_in_blocks(places, top=""):
            profile = survey.profile[some]
            names = list(map(add, lines.visible_texts(paths), ends[profile].tolist()))
            if targets:
                for at, place in enumerate(some.tolist()):
                    if place in targets:
                        names[at] += visible(targets[place])
            yield Some(profile.tolist(), names)

    def _columns(self, profiles: Profiles) -> Iterator[list[Spans]]:
        """The cells of each column but the last, for each of the profiles."""
        mode, uid, gid, acl, rest = profiles.columns
        accounts, kinds = self._accounts, list(Kind)

        def by(values: Callable[[int], Spans], *of: NDArray[np.int64]) -> list[Spans]:
            first, number = distinct_columns(*of)
            return [*map(list(map(values, first.tolist())).__getitem__, number.tolist())]

        yield by(lambda one: octal(int(mode[one])), mode)
        kind = profiles.by_rest(lambda rest: kinds.index(rest.posture.kind), np.int64)
        yield by(lambda one: coloured_letters(int(mode[one]), kinds[int(kind[one])]), mode, kind)
        yield by(lambda one: naming.user_or_number(int(uid[one]), accounts), uid)
        yield by(lambda one: naming.group_or_number(int(gid[one]), accounts), gid)
        yield by(lambda one: more(profiles[one].posture), acl, rest)
