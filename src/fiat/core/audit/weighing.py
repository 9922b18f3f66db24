"""Weights: something that nobody can use is no danger."""

from collections.abc import Iterator

from fiat.core.audit.found import Found, Mend, Places
from fiat.core.audit.ground import Ground
from fiat.core.model.right import Right

NOBODY = "; nobody but root, or its owner, gets there"


def by_use(
    ground: Ground, places: Places, right: Right, weight: str, text: str, mend: Mend | None = None
) -> Iterator[Found]:
    """What is found at ``places``: of ``weight`` where others can really use it by having ``right``, and else plain."""
    for people, some in ground.by_others(places, right):
        if people:
            yield Found(weight, text, some, people, mend)
        else:
            yield Found("plain", text + NOBODY, some, 0, mend)
