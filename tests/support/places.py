"""Where tests keep their files: nobody but root and their user may write to any directory on the way.

A history is refused anywhere else, and so under /tmp.
"""

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from support.files import change_flags, flags_of

BASE = "/var/lib/fiat-tests" if os.geteuid() == 0 else str(Path.home() / ".cache" / "fiat-tests")


def use_base() -> None:
    """Make temporary files there from now on, here and in what is started."""
    os.makedirs(BASE, 0o755, exist_ok=True)
    tempfile.tempdir = os.environ["TMPDIR"] = BASE


@contextmanager
def trusted_folder() -> Iterator[str]:
    """A temporary folder that every user can reach, and only this one can write to."""
    with tempfile.TemporaryDirectory(prefix="fiat-test-", dir=BASE) as path:
        os.chmod(path, 0o755)
        try:
            yield path
        finally:  # what is immutable could not be removed
            for folder, _, names in os.walk(path):
                for one in (folder, *(f"{folder}/{name}" for name in names)):
                    if flags_of(one):
                        change_flags(one, 0)


def folder_of(uid: int, within: str) -> str:
    """A folder within another that only the user ``uid`` can write to: for a history of theirs."""
    path = f"{within}/{uid}"
    if not os.path.isdir(path):
        os.mkdir(path, 0o700)
    os.chown(path, uid, -1)
    return path


use_base()
