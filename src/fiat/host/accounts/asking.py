"""Asking the name service's modules, for so long and no longer.

The modules run in a process of their own: one that waits for a server can be given up, and one that crashes takes
nothing with it. Many questions are asked at once, a few at a time, and answers are used as they come.
"""

from __future__ import annotations

import marshal
import os
import select
import signal
import struct
import sys
import time
from collections.abc import Sequence
from contextlib import suppress
from io import BufferedWriter
from typing import Any, NamedTuple

TIME_LIMIT = 5.0
"""Seconds that all questions together may take."""

_AT_ONCE = 8
"""So many questions are asked at a time: daemons behind a module have about as many hands."""

_FAILURES = 3
"""A source that fails so often, one time after the other, is not asked again."""

_LENGTH = struct.Struct("!Q")

Question = tuple[str, str, tuple[Any, ...]]
"""A source, what is asked of it (:data:`fiat.host.accounts.modules.QUESTIONS`), and with which words."""


class Answer(NamedTuple):
    """What a source said: its status, None where it has no such module, and what was asked for.

    ``late`` tells that it had not answered when the time was over.
    """

    status: int | None
    value: Any = None
    late: bool = False


_UNAVAILABLE = -1


class Asker:
    """Asks sources, for ``limit`` seconds in all; the process for it is there from the first question on."""

    def __init__(self, limit: float = TIME_LIMIT) -> None:
        self.limit = limit
        self._left = limit
        self._to = self._from = -1
        self._child = self._owner = 0

    def ask(self, questions: Sequence[Question]) -> list[Answer]:
        """The answers, in the order of the questions; those that do not come in time are ``late``."""
        found: list[Answer | None] = [None] * len(questions)
        until = time.monotonic() + self._left
        late = False
        try:
            if self._left <= 0:
                raise TimeoutError
            if self._owner != os.getpid():  # not begun, or begun by the process that this one is a child of
                self._begin()
            self._write(marshal.dumps(list(questions)), until)
            for _ in questions:
                (size,) = _LENGTH.unpack(self._read(_LENGTH.size, until))
                number, status, value = marshal.loads(self._read(size, until))
                found[number] = Answer(status, value)
        except TimeoutError:
            self.close()
            late = True
        except (EOFError, OSError):  # it has crashed, or there may be no more processes
            self.close()
        self._left = until - time.monotonic()
        return [Answer(_UNAVAILABLE, late=late) if one is None else one for one in found]

    def _begin(self) -> None:
        to_read, self._to = os.pipe()
        self._from, to_write = os.pipe()
        child = os.fork()
        if child == 0:
            try:
                _answer(to_read, to_write)
            finally:
                os._exit(0)
        os.close(to_read)
        os.close(to_write)
        os.set_blocking(self._to, False)
        self._child, self._owner = child, os.getpid()

    def _wait(self, file: int, events: int, until: float) -> None:
        poll = select.poll()
        poll.register(file, events)
        left = until - time.monotonic()
        if left <= 0 or not poll.poll(left * 1000):
            raise TimeoutError

    def _write(self, message: bytes, until: float) -> None:
        rest = memoryview(_LENGTH.pack(len(message)) + message)
        while rest:
            self._wait(self._to, select.POLLOUT, until)
            rest = rest[os.write(self._to, rest) :]

    def _read(self, size: int, until: float) -> bytes:
        pieces = []
        while size:
            self._wait(self._from, select.POLLIN, until)
            piece = os.read(self._from, min(size, 1 << 20))
            if not piece:
                raise EOFError
            pieces.append(piece)
            size -= len(piece)
        return b"".join(pieces)

    def close(self) -> None:
        """Let go of the process that asks."""
        if self._owner == os.getpid():
            os.close(self._to)
            os.close(self._from)
            os.kill(self._child, signal.SIGKILL)
            os.waitpid(self._child, 0)
        self._owner = 0

    def __del__(self) -> None:
        """Let go of it."""
        self.close()


# --- in the process that asks ---


def _answer(questions: int, answers: int) -> None:
    """Answer batches of questions until nobody asks any more."""
    import ctypes

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_DFL)
    parent_dies = 1  # PR_SET_PDEATHSIG of prctl(2): no module keeps this process, and the locks that it was born with
    ctypes.CDLL(None).prctl(parent_dies, signal.SIGKILL)
    nothing = os.open(os.devnull, os.O_RDWR)
    for stream in (0, 1, 2):
        os.dup2(nothing, stream)
    for name in os.listdir("/proc/self/fd"):
        if int(name) > 2 and int(name) not in (questions, answers):
            with suppress(OSError):  # that by which the names were listed
                os.close(int(name))
    sys.setswitchinterval(0.0005)  # several wait for servers at a time
    failed: dict[str, int] = {}
    with open(questions, "rb") as asked, open(answers, "wb") as told:
        while header := asked.read(_LENGTH.size):
            (size,) = _LENGTH.unpack(header)
            _answer_all(told, marshal.loads(asked.read(size)), failed)


def _answer_all(told: BufferedWriter, questions: list[Question], failed: dict[str, int]) -> None:
    import threading

    from fiat.host.accounts.modules import QUESTIONS

    pending = iter(enumerate(questions))
    lock = threading.Lock()

    def work() -> None:
        while True:
            with lock:
                number, (source, what, words) = next(pending, (-1, ("", "", ())))
            if number < 0:
                return
            status: int | None = _UNAVAILABLE
            value: Any = None
            if failed.get(source, 0) < _FAILURES:
                status, value = QUESTIONS[what](source, *words)
                failed[source] = failed.get(source, 0) + 1 if status is not None and status < 0 else 0
            message = marshal.dumps((number, None if status is None else int(status), value))
            with lock:
                told.write(_LENGTH.pack(len(message)) + message)
                told.flush()

    threads = [threading.Thread(target=work) for _ in range(min(_AT_ONCE, len(questions)) - 1)]
    for thread in threads:
        thread.start()
    work()
    for thread in threads:
        thread.join()
