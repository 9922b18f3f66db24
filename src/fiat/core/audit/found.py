"""What a rule finds: what, where, who can really use it, and what would mend it."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.wish import Wish

Places = NDArray[np.int64]
"""Entries of a survey, by place."""


class Mend(NamedTuple):
    """What mends it: a change of what was found, or of the objects ``at`` other paths.

    ``chosen`` are the options that choose just this in a whole tree, where there are such.
    """

    wish: Wish
    at: tuple[str, ...] = ()
    chosen: tuple[str, ...] = ()


class Found(NamedTuple):
    """Some entries of a tree of which a rule says the same.

    ``people`` is the set of those who can really use it, the whole way there counted in. Of what
    is wrong with something on the way, ``mend`` names that.
    """

    weight: str
    text: str
    places: Places
    people: int = 0
    mend: Mend | None = None
