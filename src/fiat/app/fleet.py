"""A fleet: the snapshots of many hosts, asked as one."""

from __future__ import annotations

import fnmatch
import os
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import NamedTuple

from fiat.app.hosts import open_host
from fiat.app.times import parse_time
from fiat.core.errors import FiatError, NotationError, SnapshotError
from fiat.core.model.host import Host
from fiat.core.state.fleet import People, SamePeople, people_of, renamed
from fiat.core.text import natural_order, near, quoted, visible
from fiat.demo import sample
from fiat.host.snapshot import fleet as folders
from fiat.host.snapshot.fleet import KeptHost, KeptSnapshot


class FleetHost(NamedTuple):
    """A host of a fleet: the snapshot that is asked, and when it was taken; ``data`` is what the file holds, where
    whoever asks may not have it."""

    name: str
    path: str
    taken: datetime | None = None
    data: bytes | None = None


class LeftOut(NamedTuple):
    """A host that is not asked, and why."""

    host: str
    why: str


def is_fleet(place: str) -> bool:
    """Whether ``place`` is a folder in which snapshots of hosts are kept, and not those of a single one."""
    return place in sample.FLEETS or (place not in sample.SNAPSHOTS and folders.is_fleet(place))


class Fleet(NamedTuple):
    """The hosts that are asked, in the order of their names, and those that cannot be."""

    hosts: list[FleetHost]
    left_out: list[LeftOut]


def means_fleet(places: Sequence[str]) -> bool:
    """Whether these words after --from mean a fleet: several, or a folder; a folder of one host is a fleet of one."""
    return len(places) > 1 or any(
        place in sample.FLEETS or (os.path.isdir(place) and place not in sample.SNAPSHOTS) for place in places
    )


def fleet_in(
    places: Sequence[str],
    globs: Sequence[str] = (),
    *,
    at: str | None = None,
    not_older: str | None = None,
    now: datetime | None = None,
) -> Fleet:
    """The hosts in these folders and files whose names fit one of ``globs``, each with its last snapshot up to the time
    ``at``.

    One whose snapshot is older than ``not_older`` (as ``2d``) is left out, and so is one of which there is none. Raises
    :class:`SnapshotError` where there are no hosts, and :class:`NotationError`.
    """
    today = now or datetime.now().astimezone()
    until = None if at is None else parse_time(at, today)
    since = None if not_older is None else parse_time(not_older, until or today)
    snapshots: dict[str, list[KeptSnapshot]] = {}
    for place in places:
        for one in _hosts_at(place):
            snapshots.setdefault(one.name, []).extend(one.snapshots)
    known = {name: KeptHost(name, folders.in_order(some)) for name, some in snapshots.items()}
    if not known:
        raise SnapshotError(f"there are no snapshots of hosts in {quoted(places[0])}; {_PUT}")
    for glob in globs:
        if not fnmatch.filter(known, glob):
            raise NotationError(glob, f"no host is called {quoted(glob)}{near(glob, known)}; there are {len(known):,}")
    chosen = [one for name, one in known.items() if not globs or any(fnmatch.fnmatchcase(name, glob) for glob in globs)]
    hosts: list[FleetHost] = []
    left_out: list[LeftOut] = []
    for one in sorted(chosen, key=lambda kept: natural_order(kept.name)):
        found = _chosen(one, until, since)
        if isinstance(found, FleetHost):
            hosts.append(found)
        else:
            left_out.append(found)
    return Fleet(hosts, left_out)


_PUT = "fiat save PATH --add FOLDER/HOST puts one there"


def snapshots_at(places: Sequence[str]) -> list[tuple[str, KeptSnapshot]]:
    """Every snapshot in these folders and files, with the host that it is of; :class:`SnapshotError` where none is."""
    found = [(host.name, kept) for place in places for host in _hosts_at(place) for kept in host.snapshots]
    if not found:
        raise SnapshotError(f"there are no snapshots in {quoted(places[0])}; {_PUT}")
    return found


def _hosts_at(place: str) -> Iterator[KeptHost]:
    for name, path in sample.FLEETS.get(place, {}).items():
        yield KeptHost(name, [KeptSnapshot(path, folders.host_of_file(path)[1])])
    if place in sample.FLEETS:
        return
    if place in sample.SNAPSHOTS or not os.path.isdir(place):
        path = sample.SNAPSHOTS.get(place, place)
        name, taken = folders.host_of_file(path)
        yield KeptHost(name, [KeptSnapshot(path, taken)])
        return
    try:
        yield from folders.hosts_in(place)
    except OSError as error:
        raise SnapshotError(f"cannot list the folder {quoted(place)}: {error.strerror}") from error


def _chosen(host: KeptHost, until: datetime | None, since: datetime | None) -> FleetHost | LeftOut:
    kept = [one for one in host.snapshots if until is None or (one.taken is not None and one.taken <= until)]
    if not host.snapshots:
        return LeftOut(host.name, "there is no snapshot of it")
    if not kept:
        return LeftOut(host.name, f"there is no snapshot of it that is as old as {until:%Y-%m-%d %H:%M}")
    last = kept[-1]
    if since is not None and (last.taken is None or last.taken < since):
        when = "has no time" if last.taken is None else f"is of {last.taken.astimezone():%Y-%m-%d %H:%M}"
        return LeftOut(host.name, f"the last snapshot {when}, which is too old")
    return FleetHost(host.name, last.path, last.taken)


def in_pairs(before: Fleet, after: Fleet) -> tuple[Fleet, list[FleetHost]]:
    """The hosts that are in both, as they are after and as they were before."""
    known = {host.name: host for host in before.hosts}
    both = [host for host in after.hosts if host.name in known]
    names = {host.name for host in both}
    lacking = {one.host for fleet in (before, after) for one in fleet.left_out}
    alone = [host.name for host in (*before.hosts, *after.hosts) if host.name not in names | lacking]
    left_out = dict.fromkeys([*before.left_out, *after.left_out, *(LeftOut(name, _ALONE) for name in alone)])
    return Fleet(both, list(left_out)), [known[host.name] for host in both]


_ALONE = "there is a snapshot of it on one of the two sides alone"


@contextmanager
def file_of(host: FleetHost) -> Iterator[str]:
    """A path at which the snapshot can be read here, for as long as that takes."""
    if host.data is None:
        yield host.path
        return
    fd = os.memfd_create("snapshot", os.MFD_CLOEXEC)
    with open(fd, "wb") as file:
        file.write(host.data)
        file.flush()
        yield f"/proc/self/fd/{fd}"


class JoinedNames(NamedTuple):
    """The names that numbers of users and of groups have in the whole fleet."""

    users: dict[int, str]
    groups: dict[int, str]


def people_in(host: FleetHost) -> People | FiatError:
    """The accounts in the snapshot of a host; why they cannot be read, where they cannot."""
    try:
        with file_of(host) as path:
            return folders.people_of_file(path)
    except FiatError as error:
        return error


def open_one(path: str, accounts: str | None, names: JoinedNames | None, *, incomplete: bool) -> tuple[Host, People]:
    """The host in a snapshot, under the names that its people have in the fleet; and its people as it has them."""
    host = open_host(path, accounts, incomplete=incomplete)
    people = people_of(host.accounts)
    if names is not None:
        host.accounts = renamed(host.accounts, names.users, names.groups)  # type: ignore[misc]
    return host, people


def joined_by(word: str) -> SamePeople:
    """How people are joined: by ``name``, or by ``uid``."""
    return "uid" if word == "uid" else "name"


def without_path(message: str, host: FleetHost, path: str) -> str:
    """An error's message that does not say what is different on each host: its name, where its snapshot is read."""
    message = re.sub(r" in the accounts of [^\s;]+", " there", message)
    return message.replace(quoted(path), "its file").replace(path, visible(host.name))
