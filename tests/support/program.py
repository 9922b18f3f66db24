"""Runs the built program, as its user does."""

import atexit
import importlib
import io
import json
import os
import pkgutil
import shutil
import signal
import subprocess
import sys
import tempfile
import traceback
from collections.abc import Mapping, Sequence
from contextlib import redirect_stderr, redirect_stdout
from functools import cache
from typing import Any

import fiat as library
from fiat.cli.main import main, run
from fiat.core.model.principals import Principal
from support.kernel import as_somebody
from support.places import BASE, folder_of

PROGRAM = (sys.executable, "-m", "fiat")

_HISTORIES = tempfile.mkdtemp(prefix="fiat-test-", dir=BASE)
os.chmod(_HISTORIES, 0o755)
atexit.register(shutil.rmtree, _HISTORIES, ignore_errors=True)


def with_history(words: tuple[str, ...], uid: int) -> tuple[str, ...]:
    """The words with a history of the tests' own: never that of this host."""
    if not words or words[0] not in ("set", "undo", "history") or {"--history", "--no-history", "--help"} & {*words}:
        return words
    return (*words, "--history", f"{folder_of(uid, _HISTORIES)}/history.db")


def fiat(*words: str, cwd: str | None = None, **options: Any) -> subprocess.CompletedProcess[str]:
    """Run ``fiat`` with ``words``; text comes back with surrogate escapes.

    It runs in a child of this process, which has loaded everything, as ``run`` has it where the program is started;
    with ``options`` of subprocess.run, it is started. That both do the same is a test of its own.
    """
    words = with_history(words, os.geteuid())
    done = _started(words, cwd, options) if options else _forked(words, cwd)
    assert "Traceback" not in done.stderr, done.stderr
    for stream in (done.stdout, done.stderr):
        assert all(char.isprintable() or char == "\n" for char in stream), repr(stream)
    return done


def _started(words: Sequence[str], cwd: str | None, options: dict[str, Any]) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [*PROGRAM, *words],
        capture_output=True,
        text=True,
        encoding="utf-8",
        errors="surrogateescape",
        cwd=cwd,
        env={**os.environ, **options.pop("env", {})},
        timeout=_PATIENCE,
        **options,
    )


_PATIENCE = 60
"""Seconds that a command line may take."""


def _forked(words: Sequence[str], cwd: str | None) -> subprocess.CompletedProcess[str]:
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        child = fork(words, out.fileno(), err.fileno(), cwd)
        status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        texts = []
        for file in (out, err):
            file.seek(0)
            texts.append(file.read().decode("utf-8", "surrogateescape"))
    return subprocess.CompletedProcess([*PROGRAM, *words], status, *texts)


def fork(
    words: Sequence[str], out: int, err: int, cwd: str | None = None, environment: Mapping[str, str] = os.environ
) -> int:
    """A child of this process that runs ``fiat`` with ``words`` and writes to these descriptors; its number."""
    _load_everything()
    child = os.fork()
    if child:
        return child
    try:
        signal.alarm(_PATIENCE)
        os.dup2(out, 1)
        os.dup2(err, 2)
        sys.stdout, sys.stderr = (io.TextIOWrapper(io.FileIO(fd, "w"), "utf-8") for fd in (1, 2))
        if environment is not os.environ:
            os.environ.clear()
            os.environ.update(environment)
        if cwd is not None:
            os.chdir(cwd)
        sys.argv = ["fiat", *map(os.fspath, words)]
        run()
    except SystemExit as end:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(end.code if isinstance(end.code, int) else 0)
    except BaseException:
        os.write(2, traceback.format_exc().encode("utf-8", "surrogateescape"))
    finally:
        os._exit(70)


@cache
def _load_everything() -> None:
    """What a command line loads on its way is here already in each child."""
    for module in pkgutil.walk_packages(library.__path__, "fiat."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)


def sample(*words: str, **options: Any) -> subprocess.CompletedProcess[str]:
    """Run ``fiat`` on the sample host."""
    return fiat(*words, "--from", "skerry", **options)


def machine(*words: str, status: int = 0) -> dict[str, Any]:
    """The machine output of ``fiat``, which must end with ``status``."""
    done = fiat(*words, "--format", "json")
    assert done.returncode == status, done
    value: dict[str, Any] = json.loads(done.stdout)
    assert value["schema"] == "fiat/1"
    assert value["command"] == words[0]
    assert isinstance(value["caveats"], list)
    assert isinstance(value["problems"], list)
    return value


def answer(words: Sequence[str]) -> dict[str, Any]:
    """The JSON that ``fiat`` prints for ``words``, run in this process: quickly, and with its patches."""
    found: dict[str, Any] = json.loads(run_here(*words)[1])
    return found


def fiat_as(who: Principal, *words: str) -> tuple[int, str, str]:
    """Run ``fiat`` as somebody else: exit status, output, errors.

    In a child of this process, because others may not be able to start this
    Python at all; what it loads on the way is loaded here first.
    """
    words = with_history(words, who.uid or 0)
    if words[0] == "set":
        run_here(*words, "--preview")
        import fiat.host.history.sqlite  # noqa: F401
    else:
        run_here(*words)
    return as_somebody(who, lambda: run_here(*words))


def run_here(*words: str) -> tuple[int, str, str]:
    """Run ``fiat`` in this process, with its patches: exit status, output, errors."""
    out, err = (io.TextIOWrapper(io.BytesIO(), "utf-8", "surrogateescape") for _ in range(2))
    with redirect_stdout(out), redirect_stderr(err):
        status = main(list(words))
    texts = []
    for stream in (out, err):
        stream.seek(0)
        texts.append(stream.read())
    return status, texts[0], texts[1]
