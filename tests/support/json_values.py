"""Values as JSON has them, with one of those inside put in the place of another."""

from collections.abc import Iterator
from typing import Any


def places(value: Any, place: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Where there is a value in ``value``, itself first."""
    yield place
    inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for step, one in inside:
        yield from places(one, (*place, step))


def put(value: Any, place: tuple[Any, ...], new: Any) -> Any:
    """The same with ``new`` at that place."""
    if not place:
        return new
    changed = value.copy()
    changed[place[0]] = put(value[place[0]], place[1:], new)
    return changed
