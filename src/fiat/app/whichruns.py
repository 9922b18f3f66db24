"""Which runs of the history are to be put back as one, by words."""

from datetime import datetime

from fiat.app.past import run_number
from fiat.app.times import parse_time
from fiat.app.undo import RunChoice
from fiat.core.errors import NotationError
from fiat.core.model.host import Host
from fiat.core.text import shortened
from fiat.core.tree.walk import absolute, walk


def which_runs(host: Host, runs: str | None, since: str | None, path: str | None) -> RunChoice:
    """The runs that are meant by a range such as ``12..15`` or ``12..``, by a time, and by a path.

    Raises :class:`NotationError` for a wrong word.
    """
    first, dots, last = (runs or "..").partition("..")
    found = RunChoice(
        run_number(first) if first else None,
        run_number(last) if last else (run_number(first) if first and not dots else None),
        None if since is None else parse_time(since, datetime.now().astimezone()).timestamp(),
        None if path is None else _real_path(host, path),
    )
    if found.first is not None and found.last is not None and found.first > found.last:
        raise NotationError(runs or "", f"{shortened(runs or '')} goes back; write {found.last}..{found.first}")
    return found


def _real_path(host: Host, path: str) -> str:
    """Where ``path`` leads; of what is gone the path as it is written."""
    end = walk(host, path, interpreters=0).end if path else None
    return absolute(host, path).rstrip("/") or "/" if end is None else end.path
