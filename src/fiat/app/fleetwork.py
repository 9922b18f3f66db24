"""The work of asking a fleet, given to an engine in pieces."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager

from fiat.app.fleet import FleetHost, people_in
from fiat.app.trust import FREE, Trust
from fiat.core.errors import FiatError
from fiat.core.model.host import Host
from fiat.core.state.fleet import EveryPerson, People
from fiat.core.words.toml import LARGEST
from fiat.demo import sample
from fiat.engine.pieces import Engine as Engine
from fiat.engine.pieces import Processes
from fiat.host.live.host import LiveHost

Told = Callable[[Engine], None]
"""Takes note of who does the work, once that is known."""


def have_trees_read(host: Host, address: str, certificates: str | None, until: ExitStack, told: Told) -> None:
    """Have whole trees of this host read by the scheduler at ``address`` and its workers, which see them as well.

    They are only spoken to where a tree is read that is large enough; ``until`` says how long. Then ``told`` is given
    the engine.
    """
    if not isinstance(host, LiveHost):
        return
    known: list[Engine] = []

    def engine() -> Engine:
        if not known:
            known.append(until.enter_context(engine_of(address, certificates, reads=True)))
            told(known[0])
        return known[0]

    host.engine = engine


@contextmanager
def engine_of(address: str | None, certificates: str | None = None, *, reads: bool = False) -> Iterator[Engine]:
    """Who does the work: the scheduler at ``address`` and its workers, or where there is none this machine.

    ``certificates`` is the folder with those for it; ``reads``: trees are to be read. Raises
    :class:`fiat.core.errors.EngineError`, and :class:`fiat.core.errors.UntrustedFile` for certificates that others
    could have put there.
    """
    if address is None:
        yield Processes()
        return
    from fiat.engine.cluster import AUTHORITY, CERTIFICATE, KEY, Cluster

    if certificates is not None:  # whoever puts others there has code run by whoever asks: what comes back is objects
        for name in (CERTIFICATE, KEY, AUTHORITY):
            path = os.path.join(certificates, name)
            if os.path.lexists(path):
                Trust(needed=True).real(path, "the engine's certificate")
    with Cluster(address, certificates, reads=reads) as engine:
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
