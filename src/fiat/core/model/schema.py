"""Declaring records: one declaration says how a value is written as JSON, how it is read, and what is wrong with it.

A *form* writes a value and reads it again. Reading checks everything, and
:class:`RecordError` names the place: ``results[3].owner.uid``.
"""

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Generic, NamedTuple, Protocol, TypeVar

from fiat.core.errors import FiatError, RecordError
from fiat.core.text import Fields, quoted

Value = TypeVar("Value")


class Form(Protocol[Value]):
    """How one kind of value looks in a record."""

    def write(self, value: Value) -> Any:
        """The value as JSON has it."""

    def read(self, data: Any, place: str) -> Value:
        """The value again; RecordError that names ``place`` for anything else."""


def wrong(place: str, data: object, right: str) -> RecordError:
    """The error for data of another kind."""
    if data is None:
        found = "missing"
    elif isinstance(data, str):
        found = f"the text {quoted(data[:40])}"
    elif isinstance(data, bool):
        found = "true" if data else "false"
    elif isinstance(data, (int, float)):
        found = "a number that does not fit" if isinstance(data, float) or abs(data) > 10**12 else f"the number {data}"
    else:
        found = "a list" if isinstance(data, list) else "an object"
    return RecordError(place, f"is {found}; {right} is right")


class Number(NamedTuple):
    """A whole number from ``least`` to ``most``."""

    least: int = 0
    most: int = (1 << 64) - 1

    def write(self, value: int) -> Any:
        """The number, which JSON has as it is."""
        return value

    def read(self, data: Any, place: str) -> int:
        """A number within the limits; true and false are none."""
        if isinstance(data, bool) or not isinstance(data, int) or not self.least <= data <= self.most:
            raise wrong(place, data, f"a whole number from {self.least} to {self.most}")
        return data


class Text(NamedTuple):
    """Any text that JSON can hold, surrogate escapes among it."""

    def write(self, value: str) -> Any:
        """The text, which JSON has as it is."""
        return value

    def read(self, data: Any, place: str) -> str:
        """The text that stands there; RecordError that names ``place`` for anything else."""
        if not isinstance(data, str):
            raise wrong(place, data, "a text")
        return data


class Truth(NamedTuple):
    """True or false, and no number in their place."""

    def write(self, value: bool) -> Any:
        """True or false, which JSON has too."""
        return value

    def read(self, data: Any, place: str) -> bool:
        """True or false, and no number for it."""
        if not isinstance(data, bool):
            raise wrong(place, data, "true or false")
        return data


class OrNone(NamedTuple, Generic[Value]):
    """Null, or what ``form`` is for."""

    form: Form[Value]

    def write(self, value: Value | None) -> Any:
        """Null for None, anything else by its own form."""
        return None if value is None else self.form.write(value)

    def read(self, data: Any, place: str) -> Value | None:
        """None for null, anything else by its own form."""
        return None if data is None else self.form.read(data, place)


class Listed(NamedTuple, Generic[Value]):
    """A list of what ``form`` is for."""

    form: Form[Value]

    def write(self, value: Sequence[Value]) -> Any:
        """A list of every item by its form."""
        return [self.form.write(one) for one in value]

    def read(self, data: Any, place: str) -> tuple[Value, ...]:
        """Every item by its form, each with its own place."""
        if not isinstance(data, list):
            raise wrong(place, data, "a list")
        return tuple(self.form.read(one, f"{place}[{number}]") for number, one in enumerate(data))


class Word(NamedTuple, Generic[Value]):
    """A value that is written as one word: ``to_word`` and ``from_word`` go both ways."""

    to_word: Callable[[Value], str]
    from_word: Callable[[str], Value]
    right: str

    def write(self, value: Value) -> Any:
        """The word that stands for the value."""
        return self.to_word(value)

    def read(self, data: Any, place: str) -> Value:
        """What the word stands for."""
        if not isinstance(data, str):
            raise wrong(place, data, self.right)
        try:
            return self.from_word(data)
        except RecordError:
            raise
        except (FiatError, ValueError, KeyError) as error:
            why = f": {error}" if isinstance(error, FiatError) else ""
            raise RecordError(place, f"is {quoted(data[:80])}, and {self.right} is right{why}") from error


class Field(NamedTuple):
    """One field of a record.

    ``get`` takes its value from the whole; without a ``form`` it is only
    written, for those who read the record as it stands. A field that is not
    ``required`` may be missing when it is read, and is ``default`` then.
    """

    name: str
    get: Callable[[Any], Any]
    form: Form[Any] | None = None
    required: bool = True
    default: Any = None


class Record(Generic[Value]):
    """An object with these fields; ``make`` puts a value together from those that are read, by their names."""

    def __init__(self, make: Callable[[Fields], Value], *fields: Field) -> None:
        self.fields = fields
        self._make = make

    def write(self, value: Value) -> Fields:
        """Every field by its form, in the order in which they are declared."""
        return {
            field.name: field.get(value) if field.form is None else field.form.write(field.get(value))
            for field in self.fields
        }

    def read(self, data: Any, place: str = "") -> Value:
        """The value in ``data``; fields that are not declared do not count."""
        if not isinstance(data, Mapping):
            raise wrong(place, data, "an object")
        found: Fields = {}
        for field in self.fields:
            if field.form is None:
                continue
            within = f"{place}.{field.name}" if place else field.name
            if field.name not in data and not field.required:
                found[field.name] = field.default
            else:
                found[field.name] = field.form.read(data.get(field.name), within)
        try:
            return self._make(found)
        except RecordError:
            raise
        except FiatError as error:
            raise RecordError(place, f"does not fit together: {error}") from error
