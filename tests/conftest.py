"""What all tests share; their helpers are in ``support``."""

import os
import sys
from collections.abc import Iterator

import pytest
from hypothesis import settings

from fiat.engine.compiled import compiled
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


READ_OR_CHANGE_TREES = """
    change flags fuse histories hostile interrupts liketree listing mapped namespaces races restore set survey undo
    writing
"""
"""What these files test is tested with the compiled reader and changer, and with Python's own; a test that takes the
place of something in one of the two says with which it is: ``@pytest.mark.reader("python")``."""


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    """Have the tests of trees run with both readers."""
    if metafunc.module.__name__.removeprefix("test_") in READ_OR_CHANGE_TREES.split():
        only = metafunc.definition.get_closest_marker("reader")
        metafunc.parametrize("reader", only.args if only else ("compiled", "python"), indirect=True)


@pytest.fixture(autouse=True)
def reader(request: pytest.FixtureRequest) -> Iterator[str | None]:
    """Which reader of trees is used, here and in the programs that a test starts; None where that is no matter."""
    which: str | None = getattr(request, "param", None)
    before = os.environ.get("FIAT_NATIVE")
    if which == "python":
        os.environ["FIAT_NATIVE"] = "0"
    elif which == "compiled":
        os.environ.pop("FIAT_NATIVE", None)
        if compiled() is None:
            assert not os.environ.get("FIAT_TEST_EVERYTHING"), "Fiat was installed without its compiled part"
            pytest.skip("no compiled reader")
    yield which
    os.environ.pop("FIAT_NATIVE", None)
    if before is not None:
        os.environ["FIAT_NATIVE"] = before


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
