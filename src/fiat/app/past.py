"""The history: which one, and which run of it."""

from collections.abc import Sequence
from datetime import datetime

from fiat.app.running import beginning_of
from fiat.app.times import Edge, parse_time
from fiat.core.change.history import Actor
from fiat.core.change.history import History as History
from fiat.core.change.history import Run as Run
from fiat.core.change.undo import as_they_stand
from fiat.core.errors import NotationError
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.text import bounded, shortened


def open_history(place: str | None = None) -> History:
    """The history in the file ``place``, or the usual one: root's under /var/lib, others' in their own state folder."""
    from fiat.host.history.place import usual_place
    from fiat.host.history.sqlite import SqliteHistory

    if place is not None:
        return SqliteHistory(place)
    return SqliteHistory(usual_place(), make_folder=True)


def usual_history() -> str:
    """Where the history of whoever acts is, where nothing else is said."""
    from fiat.host.history.place import usual_place

    return usual_place()


def runs_of(
    history: History, *, since: float | None = None, by: Actor | None = None, latest: int | None = None
) -> list[Run]:
    """The runs as they stand, the latest first: those that began ``since`` (seconds since the epoch), that are of
    ``by``, and of these the ``latest`` so many.
    """
    runs = [run for run in as_they_stand(history) if since is None or run.started >= since]
    return [run for run in runs if by is None or run.actor.is_same(by)][:latest]


def run_of(history: History, number: int) -> Run:
    """The run of this number as it stands; :class:`fiat.core.errors.RunError` where there is none."""
    found = history.run(number)
    return next((run for run in as_they_stand(history) if run.number == number), found)


def moment(word: str) -> float:
    """The time from which on runs are meant, in seconds since the epoch; :class:`NotationError` for a wrong word."""
    return parse_time(word, datetime.now().astimezone(), Edge.BEGINNING).timestamp()


EVERYONE = "everyone"
"""The word for whoever it was."""


def actor_named(host: Host, word: str, runs: Sequence[Run]) -> Actor | None:
    """Whose runs ``word`` means: an account's, by name or number, or one's who has none but is in the history; None
    for everyone.

    Raises :class:`NotationError` or :class:`fiat.core.errors.UnknownAccount`.
    """
    if word == EVERYONE:
        return None
    if word == "self":
        return whoever_asks(host.accounts)
    if any(run.actor.name == word for run in runs):  # the account may have gone since
        return Actor(None, word)
    uid = host.accounts.user_id(word.removeprefix("uid:"))
    found = host.accounts.user_numbered(uid)
    return Actor(uid, word if host.accounts.user_named(word) else found.name if found else None)


def whoever_asks(accounts: Accounts) -> Actor:
    """Who is behind this process."""
    return beginning_of(accounts, ()).actor


def run_number(word: str) -> int:
    """The number of a run as written."""
    found = bounded(word, 2**63 - 1)
    if found is None:
        raise NotationError(word, f"{shortened(word)} is no number of a run; fiat history lists them")
    return found
