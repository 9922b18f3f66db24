"""What all tests share; their helpers are in ``support``."""

import os
import sys
from collections.abc import Iterator

import pytest
from hypothesis import settings

from support.filesystems import ROOT
from support.places import trusted_folder

# the programs that tests start would be compiled each time, and their output not be buffered as their users' is
for name in ("PYTHONDONTWRITEBYTECODE", "PYTHONUNBUFFERED"):
    os.environ.pop(name, None)
sys.dont_write_bytecode = False
os.environ["FIAT_CONFIG"] = "none"  # that of this machine is no part of any test


settings.register_profile("fiat", deadline=None)  # how long an example takes says nothing on a busy machine
settings.load_profile("fiat")


@pytest.fixture
def folder() -> Iterator[str]:
    """A temporary folder that every user can reach, which pytest's own is not."""
    with trusted_folder() as path:
        yield path


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What needs root is skipped for others, but not where everything must be tested.

    A test that is given the kind of a file system mounts one, unless that is ``here``.
    """
    for item in items:
        if getattr(item, "callspec", None) and item.callspec.params.get("kind", "here") != "here":  # type: ignore[attr-defined]
            item.add_marker(pytest.mark.root)
        if item.get_closest_marker("root") and not ROOT and not os.environ.get("FIAT_TEST_EVERYTHING"):
            item.add_marker(pytest.mark.skip(reason="needs root"))
