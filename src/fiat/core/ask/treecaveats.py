"""What Fiat does not evaluate in a tree, said once for each kind."""

from collections.abc import Hashable

import numpy as np

from fiat.core.ask import caveats
from fiat.core.tree.survey import Survey


def first_of_each_kind(survey: Survey) -> list[int]:
    """The first entry of each kind that is not evaluated in full: on such a mount, so labelled, or not all read."""
    kinds: dict[Hashable, int] = {}
    for number, profile in enumerate(survey.profiles):
        kinds.setdefault(caveats.kind_of(profile.at()), number)
    numbers = [number for number in kinds.values() if caveats.of_object(survey.profiles[number].at())]
    return [int(np.argmax(survey.profile == number)) for number in numbers]
