"""A change as a picture shows it, whatever made it: a plan, an undo, a run of the history, or time."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple, Protocol, runtime_checkable

if TYPE_CHECKING:
    from fiat.core.ask.effects import KeptShift
    from fiat.core.model.accounts import Accounts
    from fiat.render.changes import Changed


class ShownChange(NamedTuple):
    """What changes, before and after, and who gains and loses by it; ``said`` are lines below the title.

    ``unlisted`` are users without an account who might have gained or lost as well; None where that is not known.
    """

    title: str
    said: tuple[str, ...]
    changes: tuple[Changed, ...]
    gains: tuple[KeptShift, ...]
    losses: tuple[KeptShift, ...]
    accounts: Accounts
    unlisted: set[str] | None


@runtime_checkable
class ShowsChange(Protocol):
    """A result that tells of a change."""

    def shown_change(self) -> ShownChange:
        """What it tells, for a picture."""
