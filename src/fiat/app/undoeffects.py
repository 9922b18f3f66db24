"""Who gains and who loses by putting several runs back as one: the effects of a plan that does just that."""

from collections.abc import Sequence

import numpy as np

from fiat.core.ask.keptshifts import KeptShift, kept
from fiat.core.change import plan
from fiat.core.change.plan import Goals, Target
from fiat.core.change.undo import Find
from fiat.core.model.host import Host
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.walk import open_end

_COUNTED = 2_000
"""For so many objects at most it is worked out."""


def effects_of(host: Host, finds: Sequence[Find]) -> tuple[tuple[KeptShift, ...], tuple[KeptShift, ...]]:
    """Gains and losses; nothing where there are too many objects, or nothing can be put back."""
    if len(finds) > _COUNTED:
        return (), ()
    targets = []
    for find in finds:
        route, node = open_end(host, find.entry.path, follow=False)
        if node is None or find.change is None:
            continue
        try:
            survey = survey_of_one(node.look(exact=True))
        finally:
            node.close()
        goals = Goals({0: find.change.after}, frozenset())
        targets.append(Target(find.entry.path, route, survey, np.ones(1, np.bool_), False, goals=goals))
    made = plan.make(host, targets)
    return kept(made.gains), kept(made.losses)
