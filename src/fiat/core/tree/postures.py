"""Supposed postures of many objects, and trees with them in it."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.posture import Identity, Posture
from fiat.core.tree.distinct import distinct_values
from fiat.core.tree.survey import Numbers, Survey


class PosturesOfMany:
    """Supposed postures of any number of objects, held in arrays.

    For each object its ``inode``, its ``birth``, the number of its
    ``filesystem`` among ``filesystems``, and that of its supposed posture
    among ``postures``.
    """

    def __init__(
        self,
        postures: list[Posture],
        filesystems: list[str],
        inode: NDArray[np.uint64],
        birth: NDArray[np.int64],
        filesystem: Numbers,
        number: Numbers,
    ) -> None:
        order = np.argsort(inode, kind="stable")
        self._postures = postures
        self._filesystems = filesystems
        self._inode, self._birth = inode[order], birth[order]
        self._filesystem, self._number = filesystem[order], number[order]

    def of(self, identity: Identity) -> Posture | None:
        """The supposed posture of an object; None where it is as it is."""
        if not len(self._inode):
            return None
        wanted = np.uint64(identity.inode)
        first, end = (int(np.searchsorted(self._inode, wanted, side=side)) for side in ("left", "right"))
        for place in range(first, end):
            known = Identity(self._filesystems[self._filesystem[place]], identity.inode, int(self._birth[place]))
            if known.same_as(identity):
                return self._postures[int(self._number[place])]
        return None

    def on(self, survey: Survey) -> Survey:
        """A tree with the supposed postures in it, every name of an object alike."""
        if not len(self._inode):
            return survey
        low, high = self._inode[0], self._inode[-1]
        places = np.flatnonzero((survey.inode >= low) & (survey.inode <= high))
        at = np.searchsorted(self._inode, survey.inode[places])
        met = self._inode[at] == survey.inode[places]
        places, at = places[met], at[met]
        supposed = np.full(len(survey), -1, np.int32)
        systems = {name: number for number, name in enumerate(self._filesystems)}
        of_profile = survey.profiles.by_rest(lambda rest: systems.get(rest.filesystem, -1), np.int32)
        while len(places):  # of one inode number there may be several, on as many file systems
            theirs, mine = survey.birth[places], self._birth[at]
            same = (theirs == mine) | (theirs == 0) | (mine == 0)
            same &= of_profile[survey.profile[places]] == self._filesystem[at]
            supposed[places[same]] = self._number[at[same]]
            places, at = places[~same], at[~same] + 1
            more = at < len(self._inode)
            places, at = places[more], at[more]
            more = self._inode[at] == survey.inode[places]
            places, at = places[more], at[more]
        if (supposed < 0).all():
            return survey
        return self._replaced(survey, supposed)

    def _replaced(self, survey: Survey, supposed: Numbers) -> Survey:
        profiles = survey.profiles.copy()
        count = len(self._postures) + 1
        pairs, places = distinct_values(survey.profile.astype(np.int64) * count + supposed + 1)
        chosen = pairs // count
        changed = np.flatnonzero(pairs % count)
        chosen[changed] = profiles.with_postures(chosen[changed], self._postures, pairs[changed] % count - 1)
        return survey.with_profiles(profiles, chosen[places].astype(np.int32))


def postures_of_many(postures: Mapping[Identity, Posture]) -> PosturesOfMany:
    """Supposed postures of many objects from a mapping, by what they are of."""
    distinct: dict[Posture, int] = {}
    number = [distinct.setdefault(posture, len(distinct)) for posture in postures.values()]
    filesystems: dict[str, int] = {}
    systems = [filesystems.setdefault(identity.filesystem, len(filesystems)) for identity in postures]
    return PosturesOfMany(
        list(distinct),
        list(filesystems),
        np.array([identity.inode for identity in postures], np.uint64),
        np.array([identity.birth for identity in postures], np.int64),
        np.array(systems, np.int32),
        np.array(number, np.int32),
    )
