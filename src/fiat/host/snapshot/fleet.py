"""A fleet: a folder with a folder of snapshots for each host (``fiat save --add``), or with snapshots as files."""

import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from datetime import UTC, datetime
from typing import NamedTuple

from fiat.core.errors import FiatError
from fiat.core.state.fleet import People, people_of
from fiat.host.snapshot.folder import kept_in
from fiat.host.snapshot.reader import accounts_of, header_of

_ENDINGS = (".jsonl", ".jsonl.gz", ".jsonl.zst")


_EVER = datetime.min.replace(tzinfo=UTC)


class KeptSnapshot(NamedTuple):
    """A snapshot of a host of a fleet: the file, and when it was taken; None where neither name nor header say."""

    path: str
    taken: datetime | None


class KeptHost(NamedTuple):
    """A host of a fleet by its name, with its snapshots, the oldest first."""

    name: str
    snapshots: list[KeptSnapshot]


def is_fleet(place: str) -> bool:
    """Whether ``place`` is a folder in which snapshots of hosts are kept: not one of a single host."""
    try:
        names = os.listdir(place)
    except OSError:
        return False
    return not kept_in(place) and any(_holds(os.path.join(place, name)) for name in names)


def _holds(path: str) -> bool:
    if path.endswith(_ENDINGS):
        return os.path.isfile(path)
    try:
        return os.path.isdir(path) and bool(kept_in(path))
    except OSError:
        return False


def hosts_in(place: str) -> Iterator[KeptHost]:
    """The hosts whose snapshots are in the folder ``place``, in no order; OSError where it cannot be listed.

    A folder in it is a host of its name, with what ``fiat save --add`` put there, be it nothing. A file is of the host
    that its first line names, or of the one that it is named after itself.
    """
    loose: dict[str, list[KeptSnapshot]] = {}
    for name in os.listdir(place):
        path = os.path.join(place, name)
        if os.path.isdir(path):
            with suppress(OSError):
                kept = [KeptSnapshot(os.path.join(path, one.name), one.taken) for one in kept_in(path)]
                if kept or not os.listdir(path):
                    yield KeptHost(name, kept)
        elif name.endswith(_ENDINGS) and os.path.isfile(path):
            host, taken = _by_header(path, name)
            loose.setdefault(host, []).append(KeptSnapshot(path, taken))
    for host, snapshots in loose.items():
        yield KeptHost(host, in_order(snapshots))


def in_order(snapshots: Iterable[KeptSnapshot]) -> list[KeptSnapshot]:
    """By when they were taken; those of which nobody knows first."""
    return sorted(snapshots, key=lambda one: (one.taken or _EVER, one.path))


def _by_header(path: str, name: str) -> tuple[str, datetime | None]:
    """The host and the time that a snapshot names; its own name, where it cannot be read: whoever reads it is told."""
    stem = name.partition(".jsonl")[0]
    try:
        header = header_of(path)
    except (OSError, FiatError):
        return stem, None
    return header.host or stem, taken_at(header.taken)


def taken_at(text: str | None) -> datetime | None:
    """The time in a header, if it has one."""
    if text is None:
        return None
    with suppress(ValueError):
        found = datetime.fromisoformat(text)
        return found if found.tzinfo is not None else found.replace(tzinfo=UTC)
    return None


def host_of_file(path: str) -> tuple[str, datetime | None]:
    """The host that a snapshot is of, and when it was taken."""
    return _by_header(path, os.path.basename(path))


def people_of_file(path: str) -> People:
    """The accounts in a snapshot, which stand before the objects: no more of it is read.

    Raises :class:`SnapshotError`, as :func:`fiat.host.snapshot.reader.read`.
    """
    return people_of(accounts_of(path))
