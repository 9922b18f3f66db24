"""The work of asking a fleet, given to an engine in pieces."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager

from fiat.app.fleet import FleetHost, people_in
from fiat.app.trust import FREE
from fiat.core.errors import FiatError
from fiat.core.state.fleet import EveryPerson, People
from fiat.core.words.toml import LARGEST
from fiat.demo import sample
from fiat.engine.pieces import Engine as Engine
from fiat.engine.pieces import Processes


@contextmanager
def engine_of(address: str | None, certificates: str | None = None) -> Iterator[Engine]:
    """Who does the work: the scheduler at ``address`` and its workers, or where there is none this machine.

    ``certificates`` is the folder with those for it. Raises :class:`fiat.core.errors.EngineError`.
    """
    if address is None:
        yield Processes()
        return
    from fiat.engine.cluster import Cluster

    with Cluster(address, certificates) as engine:
        yield engine


def held_files(paths: Iterable[str]) -> dict[str, bytes]:
    """What these files hold, for workers that may not have them; raises :class:`fiat.core.errors.PathError`."""
    return {path: FREE.read(path, "the file", LARGEST) for path in paths if path and path not in sample.EXPECTATIONS}


def in_pieces(engine: Engine, hosts: Iterable[FleetHost]) -> Iterator[FleetHost]:
    """Each host, with what its file holds where the work is done elsewhere: read when it is its turn."""
    for host in hosts:
        if not engine.far:
            yield host
            continue
        try:
            with open(os.open(host.path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK), "rb") as file:
                data = file.read()
        except OSError:
            data = b""  # whoever asks it says that it is no snapshot
        yield host._replace(data=data)


def everyone_in(engine: Engine, hosts: Sequence[FleetHost]) -> EveryPerson:
    """The accounts of all hosts; those that cannot be read are told when they are asked."""
    found = EveryPerson()
    for place, people in engine.each(people_in, in_pieces(engine, hosts)):
        if isinstance(people, People):
            found.take(place, people)
        elif not isinstance(people, FiatError):
            raise people
    return found
