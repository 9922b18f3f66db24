"""Which runs of the history are to be put back as one, by words."""

from fiat.app.past import EVERYONE, History, actor_named, moment, run_number, whoever_asks
from fiat.app.undo import RunChoice
from fiat.core.errors import NotationError
from fiat.core.model.host import Host
from fiat.core.text import shortened
from fiat.core.tree.walk import absolute, walk


def which_runs(
    host: Host,
    history: History,
    runs: str | None = None,
    since: str | None = None,
    path: str | None = None,
    latest: int | None = None,
    by: str | None = None,
) -> RunChoice:
    """The runs that are meant by a range such as ``12..15`` or ``12..``, by a time, by a path, by how many of the
    latest, and by whose they are: by a time, those of whoever asks unless something else is said.

    Raises :class:`NotationError` for a wrong word.
    """
    for option, word in (("--run", runs), ("--path", path), ("--by", by)):
        if word == "":
            raise NotationError(word, f"{option} names nothing: the word after it is empty")
    actor = None
    if by is not None and by != EVERYONE:
        actor = actor_named(host, by, history.runs())
    elif by is None and since is not None:
        actor = whoever_asks(host.accounts)
    first, dots, last = (runs or "..").partition("..")
    found = RunChoice(
        run_number(first) if first else None,
        run_number(last) if last else (run_number(first) if first and not dots else None),
        None if since is None else moment(since),
        None if path is None else _real_path(host, path),
        latest,
        actor,
    )
    if found.first is not None and found.last is not None and found.first > found.last:
        raise NotationError(runs or "", f"{shortened(runs or '')} goes back; write {found.last}..{found.first}")
    return found


def _real_path(host: Host, path: str) -> str:
    """Where ``path`` leads; of what is gone the path as it is written."""
    end = walk(host, path, interpreters=0).end if path else None
    return absolute(host, path).rstrip("/") or "/" if end is None else end.path
