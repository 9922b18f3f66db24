"""Runs the built program, as its user does."""

import atexit
import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from contextlib import redirect_stderr, redirect_stdout
from typing import Any

from fiat.cli.main import main
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
    """Run ``fiat`` with ``words``; text comes back with surrogate escapes."""
    environment = {**os.environ, **options.pop("env", {})}
    done = subprocess.run(
        [*PROGRAM, *with_history(words, os.geteuid())],
        capture_output=True,
        text=True,
        encoding="utf-8",
        errors="surrogateescape",
        cwd=cwd,
        env=environment,
        timeout=60,
        **options,
    )
    assert "Traceback" not in done.stderr, done.stderr
    for stream in (done.stdout, done.stderr):
        assert all(char.isprintable() or char == "\n" for char in stream), repr(stream)
    return done


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
