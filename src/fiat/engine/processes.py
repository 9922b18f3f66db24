"""Processes that do the same kind of work for this one, each one piece at a time.

Plain forks and pipes: they start in a few milliseconds, which the libraries'
pools, made for longer work, do not.
"""

import ctypes
import os
import pickle
import select
import signal
import struct
import sys
from collections.abc import Callable, Iterator
from contextlib import ExitStack, suppress
from types import TracebackType
from typing import Any, Generic, NamedTuple, TypeVar

from fiat.core.errors import WorkError

Piece = TypeVar("Piece")
Result = TypeVar("Result")

_LENGTH = struct.Struct("Q")
_PR_SET_PDEATHSIG = 1  # prctl(2)


class WorkResult(NamedTuple, Generic[Result]):
    """What came of the piece of the worker ``number``: ``result``, or the ``error`` that ended the work on it."""

    number: int
    result: Result | None = None
    error: Exception | None = None

    def value(self) -> Result:
        """The result; raises the error."""
        if self.error is not None:
            raise self.error
        return self.result  # type: ignore[return-value]  # a result may itself be None


class _Worker(NamedTuple):
    child: int
    give: int
    take: int


class Workers(Generic[Piece, Result]):
    """``count`` processes, or as many as could be started; ``begin`` is called in each for what then does its pieces.

    They end with this one, however it ends; who interrupts this one does not
    interrupt them. The results of one worker come in the order of its pieces. One
    that is killed fails its piece, with :class:`WorkError`, and is given no more.
    """

    def __init__(self, count: int, begin: Callable[[], Callable[[Piece], Result]]) -> None:
        with suppress(OSError):  # or every process would print what is waiting to be printed
            sys.stdout.flush()
            sys.stderr.flush()
        self.idle: list[int] = []
        self._workers: dict[int, _Worker] = {}
        self._ready = select.poll()
        parent = os.getpid()
        for number in range(count):
            pipes: list[int] = []
            try:
                pipes += os.pipe()
                pipes += os.pipe()
                child = os.fork()
            except OSError:  # no more processes, memory or open files: those that have started will do
                for fd in pipes:
                    os.close(fd)
                break
            work, give, take, tell = pipes
            if not child:
                _be_worker(parent, begin, work, tell)
            os.close(work)
            os.close(tell)
            self._workers[number] = _Worker(child, give, take)
            self._ready.register(take, select.POLLIN)
            self.idle.append(number)

    @property
    def count(self) -> int:
        """How many processes do the work."""
        return len(self._workers)

    @property
    def busy(self) -> bool:
        """Whether any of them has a piece."""
        return len(self.idle) < len(self._workers)

    def give(self, piece: Piece) -> int:
        """Give a piece to one that is idle; its number."""
        number = self.idle.pop()
        with suppress(BrokenPipeError):  # it has been killed: its end is read in results()
            _write(self._workers[number].give, _packed(piece))
        return number

    def results(self) -> list[WorkResult[Result]]:
        """Wait until one has done its piece, or has ended; what came of it, and of others. They are idle again."""
        ready = {fd for fd, _ in self._ready.poll()}
        found: list[WorkResult[Result]] = []
        for number, worker in list(self._workers.items()):
            if worker.take in ready:
                try:
                    result = _received(worker.take)
                except EOFError:
                    ended = self._ended(number)
                    if number in self.idle:  # it had no piece: there may be no memory to begin with
                        self.idle.remove(number)
                    else:
                        found.append(WorkResult(number, None, ended))
                    continue
                self.idle.append(number)
                error = result if isinstance(result, Exception) else None
                found.append(WorkResult(number, None if error else result, error))
        return found

    def _ended(self, number: int) -> WorkError:
        """Let go of one that has ended; why it has."""
        worker = self._workers.pop(number)
        self._ready.unregister(worker.take)
        os.close(worker.give)
        os.close(worker.take)
        ended = os.waitstatus_to_exitcode(os.waitpid(worker.child, 0)[1])
        how = f"was killed by signal {-ended}" if ended < 0 else f"ended with status {ended}"
        if ended == -signal.SIGKILL:
            how += ", as the kernel does where memory runs out"
        return WorkError(f"a process that did a part of the work {how}")

    def __enter__(self) -> "Workers[Piece, Result]":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for child, give, take in self._workers.values():
            os.kill(child, signal.SIGKILL)  # what is still under way is not wanted any more
            os.close(give)
            os.close(take)
            os.waitpid(child, 0)
        self._workers.clear()


def _be_worker(parent: int, begin: Callable[[], Callable[[Piece], Result]], work: int, tell: int) -> None:
    """Do the pieces that come, until none comes any more; never returns."""
    try:
        for number in (signal.SIGINT, signal.SIGHUP, signal.SIGTERM):  # a whole terminal may be sent these
            signal.signal(number, signal.SIG_IGN)
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
        if os.getppid() == parent:  # else it has ended already
            do = begin()
            while True:
                piece = _received(work)
                try:
                    data = _packed(do(piece))
                except Exception as error:
                    data = _packed(error)
                _write(tell, data)  # should that fail half-way, the process ends: what came after would be misread
    finally:
        os._exit(0)


def _packed(what: object) -> bytes:
    """As it is sent: the length, and what it is."""
    data = pickle.dumps(what, pickle.HIGHEST_PROTOCOL)
    return _LENGTH.pack(len(data)) + data


def _write(fd: int, data: bytes) -> None:
    rest = memoryview(data)
    while rest:
        rest = rest[os.write(fd, rest) :]


def _received(fd: int) -> Any:
    """What the other end has sent, as :func:`_packed` made it; EOFError where it has ended."""
    (length,) = _LENGTH.unpack(_exactly(fd, _LENGTH.size))
    return pickle.loads(_exactly(fd, length))


def _exactly(fd: int, length: int) -> bytearray:
    data = bytearray(length)
    rest = memoryview(data)
    while rest:
        count = os.readv(fd, [rest])
        if not count:
            raise EOFError
        rest = rest[count:]
    return data


Made = TypeVar("Made")


def in_order(count: int, work: Callable[[int], Made]) -> Iterator[Made]:
    """What ``work`` makes of the pieces 0 to ``count``, each in its turn.

    They are made by as many processes as there are processors; a piece whose
    process was killed, or for which none could be started, by this one.
    """
    processors = min(len(os.sched_getaffinity(0)), count)
    if processors < 2:
        yield from map(work, range(count))
        return
    with Workers(processors, lambda: work) as workers:
        given: dict[int, int] = {}
        made: dict[int, Made] = {}
        begun = 0
        for wanted in range(count):
            while wanted not in made and workers.count:
                while workers.idle and begun < count:
                    given[workers.give(begun)] = begun
                    begun += 1
                if not workers.busy:
                    break
                for done in workers.results():
                    piece = given.pop(done.number)
                    if not isinstance(done.error, WorkError):
                        made[piece] = done.value()
            yield made.pop(wanted) if wanted in made else work(wanted)


class Beside(Generic[Made]):
    """A piece of work that a process of its own does; called, it waits for the result. Let go of by ``with``, the work
    is left.

    It is done here where there is but one processor, no process can be started, or it is killed.
    """

    def __init__(self, work: Callable[[], Made]) -> None:
        self._work = work
        self._held = ExitStack()
        self._processes: Workers[None, Made] = self._held.enter_context(
            Workers(len(os.sched_getaffinity(0)) > 1, lambda: lambda _: work())
        )
        if self._processes.count:
            self._processes.give(None)

    def __call__(self) -> Made:
        """What was made; raises what the work raised. To be called once."""
        with self._held:
            done = self._processes.results() if self._processes.count else []
        return self._work() if not done or isinstance(done[0].error, WorkError) else done[0].value()

    def __enter__(self) -> "Beside[Made]":
        return self

    def __exit__(self, *_: object) -> None:
        self._held.close()
