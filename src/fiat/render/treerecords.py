"""The list of a whole tree as records: what entries have in common is written once, with holes for the rest."""

import re
from collections.abc import Callable, Iterator, Sequence
from json import dumps
from operator import itemgetter
from random import SystemRandom
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.app.look import TreeListing
from fiat.core.ask.remarks import remarks_on
from fiat.core.model.accounts import Accounts
from fiat.core.model.kind import Kind
from fiat.core.model.posture import Object
from fiat.core.tree.distinct import each_once
from fiat.core.tree.survey import Survey
from fiat.render import lines
from fiat.render.objects import ObjectFields
from fiat.render.several import by_several


class TreeRecords:
    """The chosen entries of a tree as records."""

    def __init__(self, found: TreeListing, accounts: Accounts) -> None:
        self._found = found
        self._accounts = accounts
        self._fields = ObjectFields(accounts)

    def json(self) -> Iterator[str]:
        """Records, with what stands between them."""
        survey, places = self._found.read()
        return by_several(places, lambda some: self._records_of(survey, some), ",\n")

    def _records_of(self, survey: Survey, places: NDArray[np.int64]) -> Iterator[str]:
        details, profiles = survey.details, survey.profiles
        assert details is not None
        link = profiles.by_rest(lambda rest: rest.posture.kind is Kind.SYMLINK)
        patterns: dict[int, _Pattern] = {}
        for some, paths in survey.paths_in_blocks(places):
            profile = survey.profile[some]
            alike = of_alike(survey, some)
            for number in each_once(alike):
                if number not in patterns:
                    patterns[number] = self._pattern(profiles[number // 2].at(_PATH), linked=bool(number % 2))
            targets = [""] * len(paths)
            for at in np.flatnonzero(link[profile]).tolist():
                targets[at] = dumps(details.targets.get(int(some[at]), ""))
            columns = (survey.links, details.size, details.changed, details.modified, survey.inode, survey.birth)
            values = zip(lines.json_texts(paths), targets, *(one[some].tolist() for one in columns), strict=True)
            written = [
                text % choose(value)
                for (text, choose), value in zip(map(patterns.__getitem__, alike.tolist()), values, strict=True)
            ]
            yield ",\n".join(written)

    def _pattern(self, like: Object, *, linked: bool) -> "_Pattern":
        """What is written of objects that are ``like`` this one, ``linked`` where they may have several names."""
        links, size, changed, modified, inode, birth = _NUMBERS
        identity = like.status.identity._replace(inode=inode, birth=birth)
        status = like.status._replace(
            identity=identity, links=links if linked else 1, size=size, changed=changed, modified=modified
        )
        found = like._replace(status=status, target=_TARGET if like.posture.kind is Kind.SYMLINK else None)
        text = dumps(self._fields.of(found, remarks_on(found, self._accounts)))
        holes = [_HOLES.index(hole) for hole in _HOLE.findall(text)]
        return _Pattern(_HOLE.sub("%s", text.replace("%", "%%")), itemgetter(*holes))


def of_alike(survey: Survey, places: NDArray[np.int64]) -> NDArray[np.int64]:
    """For each entry a number, the same for those that are alike: twice that of its profile, and 1 where several names
    lead to it, which is remarked on, or may: to a directory."""
    profile = survey.profile[places]
    directory = survey.profiles.by_rest(lambda rest: rest.posture.directory)[profile]
    number: NDArray[np.int64] = profile.astype(np.int64) * 2 + ((survey.links[places] > 1) | directory)
    return number


# --- holes ------------------------------------------------------------------------------

_PATH, _TARGET = "\0path", "\0target"
_NUMBERS = tuple(SystemRandom().sample(range(6 * 10**18, 9 * 10**18), 6))
"""What stands in a pattern for the path and the target, which no name can hold, and for links, size, times of change,
inode and birth: numbers that nobody can foresee, for a script or an account may hold any number that is known."""

_HOLES = (dumps(_PATH), dumps(_TARGET), *map(str, _NUMBERS))
_HOLE = re.compile("|".join(map(re.escape, _HOLES)))


class _Pattern(NamedTuple):
    """What is written of an object but for its holes, and what chooses, of all values, those that fill them."""

    text: str
    choose: Callable[[Sequence[Any]], Any]
