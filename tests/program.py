"""Runs the built program, as its user does."""

import json
import os
import subprocess
import sys
from typing import Any

PROGRAM = (sys.executable, "-m", "fiat")


def fiat(*words: str, cwd: str | None = None, **options: Any) -> subprocess.CompletedProcess[str]:
    """Run ``fiat`` with ``words``; text comes back with surrogate escapes."""
    environment = {**os.environ, "PYTHONDONTWRITEBYTECODE": "1", **options.pop("env", {})}
    done = subprocess.run(
        [*PROGRAM, *words],
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
