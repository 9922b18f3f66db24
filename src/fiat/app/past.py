"""The history: which one, and which run of it."""

from fiat.core.change.history import History as History
from fiat.core.change.history import Run as Run
from fiat.core.errors import NotationError
from fiat.core.text import bounded, shortened


def open_history(place: str | None = None) -> History:
    """The history in the file ``place``, or the usual one: root's under /var/lib, others' in their own state folder."""
    from fiat.host.history.place import usual_place
    from fiat.host.history.sqlite import SqliteHistory

    if place is not None:
        return SqliteHistory(place)
    return SqliteHistory(usual_place(), make_folder=True)


def run_number(word: str) -> int:
    """The number of a run as written."""
    found = bounded(word, 2**63 - 1)
    if found is None:
        raise NotationError(word, f"{shortened(word)} is no number of a run; fiat history lists them")
    return found
