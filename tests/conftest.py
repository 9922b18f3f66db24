"""What all tests share; their helpers are in ``support``."""

import os
import tempfile
from collections.abc import Iterator

import pytest


@pytest.fixture
def folder() -> Iterator[str]:
    """A temporary folder that every user can reach, which pytest's own is not."""
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as path:
        os.chmod(path, 0o755)
        yield path
