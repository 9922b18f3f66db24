"""Named tuples that are made quickly are those of the library in everything that is asked of them."""

import pickle
import typing
from collections.abc import Callable
from typing import Any

import pytest

from fiat.core import typed
from fiat.core.model.identity import Identity


def named(base: Any) -> Any:
    class One(base):  # type: ignore[misc]  # that of either module
        """About it."""

        one: int
        two: str = "b"
        three: tuple[int, ...] = ()

        def twice(self) -> int:
            """A method."""
            return self.one * 2

    return One


CALLS: list[Callable[[Any], Any]] = [
    lambda of: of(1),
    lambda of: of(1, "x", (3,)),
    lambda of: of(one=4, three=(1,)),
    lambda of: of(5, two="y"),
    lambda of: of(1)._replace(two="z", one=9),
    lambda of: of._make([1, "c", ()]),
    lambda of: of(7).twice(),
    lambda of: of(1)._asdict(),
    lambda of: (of._fields, of._field_defaults, of.__match_args__, of.__doc__),
    lambda of: hash(of(1)),
    lambda of: of(1) == (1, "b", ()),
    lambda of: of(2).three,
    lambda of: repr(of(1)).partition("(")[2],
    lambda of: [*of(1)],
    lambda of: of(),
    lambda of: of(1, 2, 3, 4),
    lambda of: of(1, one=2),
    lambda of: of(1, four=2),
    lambda of: of(1)._replace(four=2),
    lambda of: of._make([1]),
    lambda of: setattr(of(1), "one", 2),
    lambda of: setattr(of(1), "four", 2),
]


@pytest.mark.parametrize("before", [0, 40])
def test_they_are_called_and_fail_alike(before: int) -> None:
    """Before it is compiled how they are called, and after that."""
    for number, call in enumerate(CALLS):
        found: list[tuple[object, object]] = []
        for of in map(named, (typed.NamedTuple, typing.NamedTuple)):
            for _ in range(before):
                of(1)
            try:
                found.append((None, call(of)))
            except (TypeError, ValueError, AttributeError) as error:
                found.append((type(error), None))
        assert found[0] == found[1], number


def test_they_can_be_sent_to_another_process() -> None:
    one = Identity("here", 7, 3)
    assert pickle.loads(pickle.dumps(one)) == one
    assert type(pickle.loads(pickle.dumps([one])[:])[0]) is Identity
