"""Who gains and who loses by putting several runs back as one: the effects of a plan that does just that."""

from collections.abc import Sequence
from contextlib import suppress

from fiat.core.ask.effects import KeptShift, kept
from fiat.core.change.making import make_plan
from fiat.core.change.target import target_of
from fiat.core.change.undo import UndoObject
from fiat.core.errors import PathError
from fiat.core.model.host import Host

_COUNTED = 2_000
"""For so many objects at most it is worked out."""


def effects_of(host: Host, finds: Sequence[UndoObject]) -> tuple[tuple[KeptShift, ...], tuple[KeptShift, ...]]:
    """Gains and losses; nothing where there are too many objects, or nothing can be put back."""
    if len(finds) > _COUNTED:
        return (), ()
    targets = []
    for find in finds:
        if find.change is not None:
            with suppress(PathError):  # it has gone, or is another one now: it is told when it is tried
                targets.append(target_of(host, find.entry.path, find.entry.identity, goal=find.change.after))
    made = make_plan(host, targets)
    return kept(made.gains), kept(made.losses)
