"""Processes that do the same kind of work for this one, each one piece at a time.

Plain forks and pipes: they start in a few milliseconds, which the libraries'
pools, made for longer work, do not.
"""

import ctypes
import errno
import os
import pickle
import select
import signal
import struct
import sys
from collections.abc import Callable
from types import TracebackType
from typing import Any, Generic, TypeVar

Piece = TypeVar("Piece")
Result = TypeVar("Result")

_LENGTH = struct.Struct("Q")
_PR_SET_PDEATHSIG = 1  # prctl(2)


class Workers(Generic[Piece, Result]):
    """``count`` processes; ``begin`` is called in each for what then does its pieces.

    They end with this one, however it ends; who interrupts this one does not
    interrupt them. The results of one worker come in the order of its pieces.
    """

    def __init__(self, count: int, begin: Callable[[], Callable[[Piece], Result]]) -> None:
        sys.stdout.flush()  # or every process would print what is waiting to be printed
        sys.stderr.flush()
        self.idle: list[int] = []
        self._pipes: dict[int, tuple[int, int, int]] = {}
        self._ready = select.poll()
        parent = os.getpid()
        for number in range(count):
            work, give = os.pipe()
            take, tell = os.pipe()
            child = os.fork()
            if not child:
                _be_worker(parent, begin, work, tell)
            os.close(work)
            os.close(tell)
            self._pipes[number] = (child, give, take)
            self._ready.register(take, select.POLLIN)
            self.idle.append(number)

    @property
    def busy(self) -> bool:
        """Whether any of them has a piece."""
        return len(self.idle) < len(self._pipes)

    def give(self, piece: Piece) -> int:
        """Give a piece to one that is idle; its number."""
        number = self.idle.pop()
        _send(self._pipes[number][1], piece)
        return number

    def results(self) -> list[tuple[int, Result]]:
        """Wait until one has done its piece; those that have, with what came of it. They are idle again."""
        ready = {fd for fd, _ in self._ready.poll()}
        found: list[tuple[int, Result]] = []
        for number, (_, _, take) in self._pipes.items():
            if take in ready:
                found.append((number, _received(take)))
                self.idle.append(number)
        return found

    def __enter__(self) -> "Workers[Piece, Result]":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for child, give, take in self._pipes.values():
            os.kill(child, signal.SIGKILL)  # they change nothing, and hold nothing
            os.close(give)
            os.close(take)
            os.waitpid(child, 0)


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
                    _send(tell, do(piece))
                except Exception as error:
                    _send(tell, error)
    finally:
        os._exit(0)


def _send(fd: int, what: object) -> None:
    data = pickle.dumps(what, pickle.HIGHEST_PROTOCOL)
    rest = memoryview(_LENGTH.pack(len(data)) + data)
    while rest:
        rest = rest[os.write(fd, rest) :]


def _received(fd: int) -> Any:
    (length,) = _LENGTH.unpack(_exactly(fd, _LENGTH.size))
    found = pickle.loads(_exactly(fd, length))
    if isinstance(found, Exception):
        raise found
    return found


def _exactly(fd: int, length: int) -> bytearray:
    data = bytearray(length)
    rest = memoryview(data)
    while rest:
        count = os.readv(fd, [rest])
        if not count:
            raise OSError(errno.EIO, "a process that works for this one has ended")
        rest = rest[count:]
    return data
