"""Named tuples by the thousand."""

from collections.abc import Iterable, Iterator
from functools import partial
from typing import Any, TypeVar

Made = TypeVar("Made", bound=tuple[Any, ...])


def made_of(kind: type[Made], *columns: Iterable[Any]) -> Iterator[Made]:
    """Named tuples of a kind, one for each row of the columns, which are all its fields: faster than calling it."""
    if len(columns) != len(kind._fields):  # type: ignore[attr-defined]
        raise TypeError(f"{kind.__name__} has other fields")
    return map(partial(tuple.__new__, kind), zip(*columns, strict=False))
