"""Workers anywhere, behind a Dask scheduler (``pip install 'fiat[fleet]'``): the same pieces, done elsewhere.

Whoever has the scheduler's certificate can have code run by its workers, and what they answer is taken as it is: see
docs/fleet.md. Dask's own documentation: "Distributed", "TLS/SSL", "Resilience".
"""

from __future__ import annotations

import contextlib
import ipaddress
import logging
import os
import pickle
import queue
import ssl
import sys
import time
import warnings
from collections.abc import Callable, Iterator
from itertools import count
from types import TracebackType
from typing import Any, NamedTuple
from urllib.parse import urlsplit

import fiat
from fiat.core.errors import EngineError, NotationError, WorkError
from fiat.core.model import capabilities
from fiat.core.text import counted, joined, quoted, several, visible
from fiat.engine.pieces import Engine, Piece, Result

try:
    import dask
    import distributed
except ImportError as error:
    raise EngineError("--engine needs Dask: pip install 'fiat[fleet]' gets it") from error

_CONNECT = 10.0
"""Seconds within which the scheduler must answer."""

_LOOK = 0.5
"""Seconds after which the scheduler is looked for again while nothing comes."""

_GONE = 5.0
"""Seconds for which a scheduler may not be heard of."""

_AHEAD = 2
"""So many pieces are given for each worker, so that it need not wait for its next one."""

_ENOUGH = 300.0
"""Seconds after which a result that does not arrive is given up, and made again."""

_DESERTED = 15.0
"""Seconds for which there may be no worker at all."""

_STRAGGLING = 30.0
"""Seconds after which a piece that is still not done is given to another worker as well, once there are no others."""

CERTIFICATE, KEY, AUTHORITY = "engine.crt", "engine.key", "ca.crt"
"""The files in the folder of certificates; without the last, the first vouches for itself."""


class Powers(NamedTuple):
    """What a worker is: its Fiat, Python and Dask, and its effective capabilities."""

    versions: tuple[str, str, str]
    capabilities: int


def powers() -> Powers:
    """Of this process."""
    with open("/proc/self/status", encoding="ascii") as file:
        effective = next(line.split()[1] for line in file if line.startswith("CapEff:"))
    python = ".".join(map(str, sys.version_info[:2]))
    return Powers((fiat.__version__, python, distributed.__version__), int(effective, 16))


READS = capabilities.DAC_READ_SEARCH


def expect_fit(theirs: Powers, *, reads: bool) -> None:
    """Raise :class:`EngineError` unless a worker has the same versions and just the power to read, needed where it
    ``reads`` trees."""
    for what, here, there in zip(("Fiat", "Python", "Dask"), powers().versions, theirs.versions, strict=True):
        if here != there:
            raise EngineError(f"it has {what} {there}, and here it is {here}: both must be the same")
    more = theirs.capabilities & ~READS
    if more:
        names = several([f"CAP_{name.upper()}" for name in capabilities.names(more)], show=3)
        raise EngineError(f"it has more powers than to read ({names}): start it with CAP_DAC_READ_SEARCH alone")
    if reads and not theirs.capabilities & READS:
        raise EngineError("it may not read everything: start it with CAP_DAC_READ_SEARCH")


class _Given(NamedTuple):
    """A piece as a worker gets it."""

    reads: bool
    work: Callable[[Any], Any]
    piece: Any


class _Failed(NamedTuple):
    """What went wrong with a piece: no fault of the worker, to be tried nowhere else."""

    error: Exception


def _do(version: str, data: bytes) -> Any:
    """What a worker does, be it one that came later than the others; ``data`` is what is given, which another version
    may not know how to read, and which is nothing to the scheduler."""
    try:
        theirs = powers()
        if version != theirs.versions[0]:
            raise EngineError(f"a worker has Fiat {theirs.versions[0]}, and it was asked by {version}")
        given: _Given = pickle.loads(data)
        expect_fit(theirs, reads=given.reads)
        return given.work(given.piece)
    except Exception as error:
        return _Failed(error)


class _Lost(Exception):
    """What a worker had done went with it before it was fetched."""


class Cluster(Engine):
    """The workers of the scheduler at ``address`` (``tls://HOST:PORT``), with the ``certificates`` in a folder.

    Without TLS only on loopback. ``reads``: they are to read trees. Connected within the ``with`` block, which raises
    :class:`EngineError` where they are not to be had, or not fit.
    """

    far = True

    def __init__(self, address: str, certificates: str | None = None, *, reads: bool = False) -> None:
        self.address = address
        self.reads = reads
        self._scheme, self._loopback = _expect_safe(address)
        self._certificates = certificates
        self._client: Any = None
        self._last_seen = time.monotonic()
        self._known: dict[str, Any] = {}
        self._asked_at = -_GONE
        if self._scheme == "tls" and certificates is None:
            names = f"{CERTIFICATE} and {KEY}"
            raise NotationError(
                address, f"{quoted(address)} speaks TLS: --engine-tls DIR names the folder with {names}"
            )

    @property
    def about(self) -> str:
        """That nothing is encrypted, where that is so."""
        if self._scheme == "tls":
            return ""
        where = f"the engine at {visible(self.address)} is spoken to without TLS"
        return f"{where}: any user of this machine could take part, and answer in its place"

    @property
    def doing(self) -> str:
        """What progress is shown of, with how many workers do it."""
        verb = "read" if self.reads else "asked"
        return f"{verb} by {counted(len(self._workers()), 'worker')}"

    @property
    def count(self) -> int:
        """How many pieces are done at once."""
        return sum(int(one["nthreads"]) for one in self._workers().values())

    def __enter__(self) -> Cluster:
        logging.disable(logging.CRITICAL)  # what is to be known is said in Fiat's own words
        dask.config.set({"distributed.comm.timeouts.connect": f"{_CONNECT}s"})
        try:
            self._client = distributed.Client(
                self.address, security=self._security(), timeout=_CONNECT, set_as_default=False
            )
        except (OSError, TimeoutError, ValueError, RuntimeError) as error:
            logging.disable(logging.NOTSET)
            raise EngineError(f"no scheduler answers at {quoted(self.address)}: {_reason(error)}") from error
        try:
            self._expect_workers()
        except BaseException:
            self.__exit__(None, None, None)
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        client, self._client = self._client, None
        if client is not None:
            with contextlib.suppress(Exception):  # whatever has become of it, it is not needed any more
                client.close(timeout=2)
        logging.disable(logging.NOTSET)

    def _security(self) -> Any:
        if self._scheme != "tls" or self._certificates is None:
            return None
        paths = {name: os.path.join(self._certificates, name) for name in (CERTIFICATE, KEY, AUTHORITY)}
        for name in (CERTIFICATE, KEY):
            if not os.access(paths[name], os.R_OK):
                raise NotationError(
                    name, f"there is no {quoted(paths[name])} to be read, which --engine-tls DIR is to hold"
                )
        authority = paths[AUTHORITY] if os.path.exists(paths[AUTHORITY]) else paths[CERTIFICATE]
        return distributed.Security(
            require_encryption=True,
            tls_ca_file=authority,
            tls_client_cert=paths[CERTIFICATE],
            tls_client_key=paths[KEY],
        )

    def _workers(self) -> dict[str, Any]:
        now = time.monotonic()
        if now - self._asked_at > _LOOK:
            try:
                self._known = self._client.scheduler_info(n_workers=-1)["workers"]
            except (OSError, TimeoutError) as error:
                raise self._gone() from error
            self._asked_at = now
        return self._known

    def _expect_workers(self) -> None:
        workers = self._workers()
        if not workers:
            raise EngineError(f"the scheduler at {quoted(self.address)} has no workers")
        if self._loopback and self._scheme != "tls":
            far = [one for one in workers if not _is_loopback(urlsplit(one).hostname or "")]
            if far:
                raise EngineError(f"without TLS workers must be on loopback, and {joined(far[:3])} is not")
        wrong: dict[str, list[str]] = {}
        for worker, theirs in self._ask_all().items():
            if isinstance(theirs, OSError):
                continue  # it has gone meanwhile: others do its work
            try:
                if not isinstance(theirs, Powers):
                    raise EngineError(f"it does not answer as Fiat does: {visible(str(theirs))}")
                expect_fit(theirs, reads=self.reads)
            except EngineError as error:
                wrong.setdefault(str(error), []).append(worker)
        for message, some in wrong.items():
            raise EngineError(f"the worker at {visible(some[0])} is refused: {message}")

    def _ask_all(self) -> dict[str, object]:
        """What each worker is; its error, where it does not say."""
        try:
            found: dict[str, object] = self._client.run(powers, on_error="return")
        except (OSError, TimeoutError) as error:
            raise self._gone() from error
        return found

    def each_given(
        self, work: Callable[[Piece], Result], give: Callable[[], Piece | None]
    ) -> Iterator[tuple[int, Result | Exception]]:
        """As :meth:`fiat.engine.pieces.Engine.each_given` says."""
        done: queue.SimpleQueue[Any] = queue.SimpleQueue()
        under_way: dict[Any, tuple[int, Piece, float]] = {}
        numbers = count()

        def submit(place: int, piece: Piece) -> None:
            with warnings.catch_warnings():  # that a snapshot is large is no news
                warnings.simplefilter("ignore")
                data = pickle.dumps(_Given(self.reads, work, piece), pickle.HIGHEST_PROTOCOL)
                future = self._client.submit(_do, fiat.__version__, data, pure=False)
            under_way[future] = place, piece, time.monotonic()
            future.add_done_callback(done.put)

        while True:
            room = max(self.count, 1) * _AHEAD
            piece: Piece | None = None
            while len(under_way) < room and (piece := give()) is not None:
                submit(next(numbers), piece)
            if not under_way:
                return
            future = self._next(done)
            if future is None:
                self._expect_somebody()
                if piece is None:
                    self._hand_on(under_way, submit)
                continue
            if future not in under_way:
                continue  # another has done it before
            place, lost, _ = under_way.pop(future)
            try:
                result = self._result(future)
            except _Lost:
                submit(place, lost)
                continue
            for other in [one for one, (number, _, _) in under_way.items() if number == place]:
                del under_way[other]
                other.cancel()
            yield place, result

    def _next(self, done: queue.SimpleQueue[Any]) -> Any:
        """A future that is done, or None after a while; EngineError where the scheduler has gone."""
        silent = 0.0
        while True:
            try:
                return done.get(timeout=_LOOK)
            except queue.Empty:
                if self._client.status == "running":
                    return None
                silent += _LOOK
                if silent >= _GONE or self._client.status in ("closed", "closing"):
                    raise self._gone() from None

    def _expect_somebody(self) -> None:
        """Raise :class:`EngineError` where there has been no worker for a while."""
        now = time.monotonic()
        if self._workers():
            self._last_seen = now
        elif now - self._last_seen > _DESERTED:
            raise EngineError(f"the scheduler at {quoted(self.address)} has no workers any more")

    def _gone(self) -> EngineError:
        return EngineError(f"the scheduler at {quoted(self.address)} has gone in the middle of the work")

    def _result(self, future: Any) -> Any:
        if future.status == "cancelled" or self._client.status != "running":
            raise self._gone()
        if future.status == "error":
            error = future.exception()
            return WorkError(f"a piece of the work was given up: {visible(str(error)) or type(error).__name__}")
        found = self._fetched(future)
        if isinstance(found, _Failed):
            if isinstance(found.error, EngineError):
                raise found.error
            return found.error
        return found

    def _fetched(self, future: Any) -> Any:
        """What a worker holds, however slow the way to it is; :class:`_Lost` where it has gone with it."""
        patience = _GONE
        while True:
            try:
                return future.result(timeout=patience)
            except (TimeoutError, OSError) as error:
                if self._client.status != "running":
                    raise self._gone() from error
                if future.status != "finished" or patience > _ENOUGH:
                    raise _Lost from error
                patience *= 4  # it is there, and on its way

    def _hand_on(self, under_way: dict[Any, tuple[int, Any, float]], submit: Callable[[int, Any], None]) -> None:
        """Give what takes long to another worker as well: whichever is done first counts."""
        now = time.monotonic()
        several_times = [place for place, _, _ in under_way.values()]
        for place, piece, since in list(under_way.values()):
            if now - since > _STRAGGLING and several_times.count(place) == 1:
                submit(place, piece)


def _reason(error: BaseException) -> str:
    """Why nobody answered: the kernel's words, where it was the kernel who said no."""
    known: BaseException | None = error
    while known is not None:
        if isinstance(known, ssl.SSLError):
            return f"the certificates do not fit ({visible(known.reason or str(known))})"
        if isinstance(known, OSError) and known.errno and not known.__cause__:
            return known.strerror or os.strerror(known.errno)
        known = known.__cause__ or known.__context__
    late = isinstance(error, TimeoutError) or "Timed out" in str(error)
    return f"nothing for {_CONNECT:.0f} seconds" if late else visible(str(error)) or type(error).__name__


def _expect_safe(address: str) -> tuple[str, bool]:
    """The scheme of an address, and whether it is on loopback; NotationError for one that is neither TLS nor that."""
    parts = urlsplit(address if "://" in address else f"tcp://{address}")
    try:
        host, port = parts.hostname, parts.port
    except ValueError:
        host = port = None
    if parts.scheme not in ("tls", "tcp") or not host or port is None:
        raise NotationError(address, f"{quoted(address)} is no address of a scheduler; write tls://HOST:PORT")
    loopback = _is_loopback(host)
    if parts.scheme == "tcp" and not loopback:
        said = f"{quoted(address)} is not on loopback: without TLS anybody could read and answer"
        raise NotationError(address, f"{said}; write tls://HOST:PORT")
    return parts.scheme, loopback


def _is_loopback(host: str) -> bool:
    if host == "localhost":
        return True
    with contextlib.suppress(ValueError):
        return ipaddress.ip_address(host).is_loopback
    return False
