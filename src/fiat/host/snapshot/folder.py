"""A folder of snapshots of one host, each named after the time when it was taken."""

import contextlib
import os
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from typing import NamedTuple

from fiat.core.errors import FiatError
from fiat.host.snapshot import files
from fiat.host.snapshot.reader import header_of
from fiat.host.snapshot.records import Header
from fiat.host.trust import FileRoute

_NAME = re.compile(r"(\d{4}-\d\d-\d\dT\d{6}Z)(?:-(\d+))?\.jsonl(?:\.gz|\.zst)?")
_TIME = "%Y-%m-%dT%H%M%SZ"


class StoredSnapshot(NamedTuple):
    """A snapshot in a folder: when it was taken, and its name there."""

    taken: datetime
    number: int
    name: str


def kept_in(folder: str) -> list[StoredSnapshot]:
    """The snapshots in ``folder``, the oldest first; OSError where it cannot be listed."""
    found = []
    for name in os.listdir(folder):
        parts = _NAME.fullmatch(name)
        if parts is None:
            continue
        with contextlib.suppress(ValueError):
            taken = datetime.strptime(parts[1], _TIME).replace(tzinfo=UTC)
            found.append(StoredSnapshot(taken, int(parts[2] or 1), name))
    return sorted(found)


class AddedSnapshot(NamedTuple):
    """A snapshot that was added to a folder: its path, how many bytes it has, and what became of others there.

    ``removed`` are the names of those that were taken away; ``ahead`` those that bear later dates; ``failed`` is why
    not all could be removed that were to be.
    """

    path: str
    size: int
    removed: list[str]
    ahead: list[str]
    failed: OSError | None = None


def add(
    folder: str,
    taken: datetime,
    lines: Iterable[str],
    keep: int | None = None,
    of_same: Callable[[Header], bool] = lambda header: True,
) -> AddedSnapshot:
    """Save into ``folder``, which is made where it is not there; then of those ``of_same`` host and trees only the last
    ``keep`` stay, this one among them.

    Raises OSError, and :class:`fiat.core.errors.UntrustedFile` where others can write there, or on the way: they could
    have what is saved, and removed, be somewhere else.
    """
    real = FileRoute("the folder", folder, "save where only you can write").folder(make=True)
    name, size = files.write_new(real, _names(taken), lines)
    others = [one for one in kept_in(real) if one.name != name]
    ahead = [one.name for one in others if one.taken > taken]
    removed: list[str] = []
    failed = None
    if keep is not None:
        try:
            removed += _thin_out(real, others, keep - 1, of_same)
        except OSError as error:
            failed = error
    return AddedSnapshot(os.path.join(os.path.abspath(folder), name), size, removed, ahead, failed)


def _names(taken: datetime) -> Iterator[str]:
    """The name for that time, and those for further ones of the same second."""
    stamp = taken.astimezone(UTC).strftime(_TIME)
    yield f"{stamp}.jsonl.zst"
    yield from (f"{stamp}-{number}.jsonl.zst" for number in range(2, 1000))


def _thin_out(
    folder: str, known: Sequence[StoredSnapshot], keep: int, of_same: Callable[[Header], bool]
) -> Iterator[str]:
    """Remove all but the last ``keep`` of those that ``of_same`` says yes to; what another has removed is gone.

    Two at once need no lock: what either counts among the last is there, whatever the other removes.
    """
    mine = [one for one in known if _is_of_same(os.path.join(folder, one.name), of_same)]
    directory = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        for one in mine[: max(len(mine) - keep, 0)]:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(one.name, dir_fd=directory)
                yield one.name
    finally:
        os.close(directory)


def _is_of_same(path: str, of_same: Callable[[Header], bool]) -> bool:
    """Whether this is a snapshot, by its first line, that ``of_same`` says yes to."""
    try:
        return of_same(header_of(path))
    except (OSError, FiatError):
        return False
