"""Runs the program on whatever words and files come, thousands of times, where it can do no harm."""

import os
import pty
import resource
import signal
import sys
import tempfile
import time
import traceback
from multiprocessing.connection import Connection
from typing import NamedTuple, NoReturn

import fiat.app.interface
import fiat.host.history.sqlite
import fiat.host.live.gathering  # noqa: F401
from fiat.cli import main as program
from fiat.cli.registry import load, names
from support.beside import Beside
from support.filesystems import ROOT
from support.kernel import NEW_MOUNTS, READ_ONLY, bind, unshare

MEMORY = 1 << 30
"""Bytes that a run may take."""

SECONDS = 30
"""A run that takes so long is taken to hang."""

DEFECT = 99
"""The status that this gives to a run that ended in an exception."""


class Done(NamedTuple):
    """How a run ended: exit status, or less than 0 for the signal; what it printed."""

    status: int
    out: bytes
    err: bytes
    seconds: float


class Sandbox(Beside):
    """A process where everything but ``folder`` is read-only, and which forks one for each run.

    Forked, a run needs no start of Python; that the started program does the same is for a few runs of it to show.
    """

    def __init__(self, folder: str) -> None:
        super().__init__(lambda away: _serve(folder, away))

    def run(self, words: list[str], *, terminal: bool = False) -> Done:
        """Run the program with these words, its output to files or all of it to a terminal."""
        self.there.send((words, terminal))
        found: Done = self.there.recv()
        return found

    def __enter__(self) -> "Sandbox":
        return self


def _serve(folder: str, away: Connection) -> NoReturn:
    if ROOT:
        unshare(NEW_MOUNTS)
        bind(folder, folder)
        bind("/", "/", READ_ONLY)
        os.chroot("/")  # into the root directory as it is mounted now
    os.chdir(folder)
    for name in names():  # loaded once, for all that are forked
        load(name)
    while True:
        words, terminal = away.recv()
        away.send(_run(words, terminal, folder))


def _run(words: list[str], terminal: bool, folder: str) -> Done:
    begun = time.monotonic()
    with tempfile.TemporaryFile(dir=folder) as out, tempfile.TemporaryFile(dir=folder) as err:
        master, child = -1, -1
        if terminal:
            child, master = pty.fork()
        else:
            child = os.fork()
        if not child:
            if not terminal:
                os.dup2(out.fileno(), 1)
                os.dup2(err.fileno(), 2)
            _be_program(words)
        text = _all_of(master) if terminal else b""
        status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        if terminal:
            os.close(master)
            return Done(status, text, b"", time.monotonic() - begun)
        for file in (out, err):
            file.seek(0)
        return Done(status, out.read(), err.read(), time.monotonic() - begun)


def _be_program(words: list[str]) -> NoReturn:
    status = DEFECT
    try:
        resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
        signal.alarm(SECONDS)
        sys.stdout = open(1, "w", closefd=False)  # noqa: SIM115 - as Python opens them when it starts
        sys.stderr = open(2, "w", closefd=False)  # noqa: SIM115
        sys.argv = ["fiat", *words]
        try:
            status = program.main(words)
        except SystemExit as error:
            status = int(error.code or 0)
        sys.stdout.flush()
    except BaseException:
        traceback.print_exc()
        status = DEFECT
    finally:
        sys.stderr.flush()
        os._exit(status)


def _all_of(master: int) -> bytes:
    found = b""
    while True:
        try:
            part = os.read(master, 1 << 16)
        except OSError:  # the other side has ended
            return found
        if not part:
            return found
        found += part
