"""Real file systems for tests: loop mounts of several kinds, and tmpfs."""

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress

import pytest

ROOT = os.geteuid() == 0

MAKERS = {
    "ext4": ("mkfs.ext4", "-q", "-F"),
    "xfs": ("mkfs.xfs", "-q", "-f"),
    "btrfs": ("mkfs.btrfs", "-q", "-f"),
}
KINDS = ("here", *MAKERS, "tmpfs")
"""What most tests run on; the first is the file system of the temporary folder."""

_SIZE = 320 * 1024 * 1024  # the least that all of them accept


def _cannot(reason: str) -> None:
    """Skip, or fail where everything must be tested."""
    if os.environ.get("FIAT_TEST_EVERYTHING"):
        pytest.fail(reason)
    pytest.skip(reason)


@contextmanager
def fresh(kind: str, options: str = "") -> Iterator[str]:
    """A directory that everyone can reach, on a fresh file system of ``kind``.

    ``here`` is the file system of the temporary folder. The others need root,
    and their maker. Anything else is skipped, unless FIAT_TEST_EVERYTHING is
    set.
    """
    folder = tempfile.mkdtemp(prefix="fiat-test-")
    os.chmod(folder, 0o755)
    mounted = False
    try:
        if kind != "here":
            if not ROOT:
                _cannot("only root can mount")
            mounted = _mount(kind, folder, options)
        top = os.path.join(folder, "on")
        os.mkdir(top)
        os.chmod(top, 0o755)
        yield top
    finally:
        if mounted:
            subprocess.run(["umount", "-l", folder], check=True)
        _remove(folder)


def _mount(kind: str, folder: str, options: str) -> bool:
    if kind in ("tmpfs", "ramfs"):  # the second keeps no lists
        command = ["mount", "-t", kind, *(["-o", options] if options else []), "none", folder]
    else:
        maker = MAKERS[kind]
        if shutil.which(maker[0]) is None:
            _cannot(f"{maker[0]} is not installed")
        image = f"{folder}.image"
        with open(image, "wb") as file:
            file.truncate(_SIZE)
        subprocess.run([*maker, image], check=True, capture_output=True)
        command = ["mount", "-o", ",".join(filter(None, ["loop", options])), image, folder]
    done = subprocess.run(command, capture_output=True, text=True)
    with suppress(FileNotFoundError):
        os.unlink(f"{folder}.image")  # the loop device keeps it until it is unmounted
    if done.returncode:
        _cannot(f"cannot mount {kind}: {done.stderr.strip()}")
    os.chmod(folder, 0o755)
    return True


def _remove(folder: str) -> None:
    if not ROOT:
        _open_up(folder)
    shutil.rmtree(folder)


def _open_up(folder: str) -> None:
    """Give back what the tests took from their own user."""
    os.chmod(folder, 0o700)
    with os.scandir(folder) as entries:
        for entry in entries:
            if entry.is_dir(follow_symlinks=False):
                _open_up(entry.path)
