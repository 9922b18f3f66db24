"""What Fiat does not evaluate in a tree, said once for each kind."""

from collections.abc import Hashable

import numpy as np

from fiat.core.ask import caveats
from fiat.core.model.posture import Object
from fiat.core.tree.profile import Profile
from fiat.core.tree.survey import Survey


def first_of_each_kind(survey: Survey) -> list[int]:
    """The first entry of each kind that is not evaluated in full: on such a mount, so labelled, or not all read."""
    kinds: dict[Hashable, Object] = {}
    numbers: dict[Hashable, int] = {}

    def numbered(rest: Profile) -> int:
        kind = caveats.kind_of(rest.at())
        kinds.setdefault(kind, rest.at())
        return numbers.setdefault(kind, len(numbers))

    of_entry = survey.profiles.by_rest(numbered, np.int32)[survey.profile]
    said = [number for kind, number in numbers.items() if caveats.of_object(kinds[kind])]
    return [int(np.argmax(of_entry == number)) for number in said]
