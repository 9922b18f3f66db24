"""What all tests share. Their helpers live beside them: filesystems, kernel, program, worlds."""

import os
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent))


@pytest.fixture
def folder() -> Iterator[str]:
    """A temporary folder that every user can reach, which pytest's own is not."""
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as path:
        os.chmod(path, 0o755)
        yield path
