"""A folder of snapshots of one host, each named after the time when it was taken."""

import contextlib
import fcntl
import os
import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime

from fiat.core.typed import NamedTuple
from fiat.host.snapshot import files

_NAME = re.compile(r"(\d{4}-\d\d-\d\dT\d{6}Z)(?:-(\d+))?\.jsonl(?:\.gz|\.zst)?")
_TIME = "%Y-%m-%dT%H%M%SZ"


class Kept(NamedTuple):
    """A snapshot in a folder: when it was taken, and its name there."""

    taken: datetime
    number: int
    name: str


def kept_in(folder: str) -> list[Kept]:
    """The snapshots in ``folder``, the oldest first; OSError where it cannot be listed."""
    found = []
    for name in os.listdir(folder):
        parts = _NAME.fullmatch(name)
        if parts is None:
            continue
        with contextlib.suppress(ValueError):
            taken = datetime.strptime(parts[1], _TIME).replace(tzinfo=UTC)
            found.append(Kept(taken, int(parts[2] or 1), name))
    return sorted(found)


def add(folder: str, taken: datetime, lines: Iterable[str], keep: int | None = None) -> tuple[str, int, list[str]]:
    """Save into ``folder``, which is made where it is not there; then only the last ``keep`` stay.

    The path of the new snapshot, how many bytes it has, and the names that were
    removed. Raises OSError.
    """
    with contextlib.suppress(FileExistsError):
        os.mkdir(folder, 0o700)
    name, size = files.write_new(folder, _names(taken), lines)
    removed = [] if keep is None else list(_thin_out(folder, keep))
    return os.path.join(os.path.abspath(folder), name), size, removed


def _names(taken: datetime) -> Iterator[str]:
    """The name for that time, and those for further ones of the same second."""
    stamp = taken.astimezone(UTC).strftime(_TIME)
    yield f"{stamp}.jsonl.zst"
    yield from (f"{stamp}-{number}.jsonl.zst" for number in range(2, 1000))


def _thin_out(folder: str, keep: int) -> Iterator[str]:
    """Remove all but the last ``keep``; what another has removed meanwhile is gone."""
    directory = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        fcntl.flock(directory, fcntl.LOCK_EX)  # two that thin out at once would each count what the other removes
        known = kept_in(folder)
        for one in known[: max(len(known) - keep, 0)]:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(one.name, dir_fd=directory)
                yield one.name
    finally:
        os.close(directory)
