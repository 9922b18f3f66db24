"""``fiat._native`` built otherwise than it is installed, and what it is run with."""

import os
import subprocess
import sys
import sysconfig
from pathlib import Path

HOME = Path(__file__).parent.parent.parent
_HERE = Path(__file__).parent
_SANITIZERS = ["-fsanitize=address,undefined", "-fno-sanitize-recover=undefined", "-fno-omit-frame-pointer"]


def sanitized(folder: str) -> str:
    """The module, built to end at the first access out of bounds, use after freeing, or undefined behaviour."""
    made = f"{folder}/_native.so"
    sources = sorted(map(str, (HOME / "native").glob("*.c")))
    headers = f"-I{sysconfig.get_path('include')}"
    subprocess.run(
        ["cc", "-O1", "-g", "-std=gnu11", *_SANITIZERS, "-shared", "-fPIC", headers, *sources, "-o", made], check=True
    )
    return made


def faults(folder: str) -> str:
    """The library that lets calls of the module fail (faults.c)."""
    made = f"{folder}/faults.so"
    subprocess.run(["cc", "-O1", "-shared", "-fPIC", str(_HERE / "faults.c"), "-o", made, "-ldl"], check=True)
    return made


def sanitizers() -> list[str]:
    """The libraries that a sanitized module needs to be loaded first."""
    names = ("libasan.so", "libubsan.so")
    return [
        subprocess.run(["cc", f"-print-file-name={name}"], stdout=-1, text=True, check=True).stdout.strip()
        for name in names
    ]


def fuzz(module: str, seconds: float, seed: int, folder: str, preload: list[str], **environment: str) -> str:
    """What the fuzzer says of a sanitized module."""
    words = [sys.executable, str(_HERE / "fuzznative.py"), "--module", module, "--seconds", str(seconds)]
    given = {**os.environ, "LD_PRELOAD": " ".join(preload), "ASAN_OPTIONS": "detect_leaks=0", **environment}
    done = subprocess.run(
        [*words, "--seed", str(seed), "--folder", folder], env=given, capture_output=True, text=True, timeout=600
    )
    assert done.returncode == 0, (done.stdout + done.stderr)[-4000:]
    return done.stdout
