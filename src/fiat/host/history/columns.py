"""Columns of tables: those that hold JSON, and whole columns that JSON holds."""

import json
from typing import Any, NamedTuple

from fiat.core.errors import RecordError
from fiat.core.model.schema import Form, Listed, Number, Text, wrong


class Json(NamedTuple):
    """Text that is the JSON of what ``form`` is for."""

    form: Form[Any]

    def write(self, value: Any) -> Any:
        """The text."""
        return json.dumps(self.form.write(value))

    def read(self, data: Any, place: str) -> Any:
        """What the text holds; RecordError that names ``place`` where that is something else."""
        try:
            return self.form.read(json.loads(Text().read(data, place)), place)
        except (ValueError, RecursionError) as error:
            raise RecordError(place, "is no JSON") from error


class Numbers(NamedTuple):
    """A list of whole numbers from ``least`` to ``most``, checked all at once."""

    least: int = 0
    most: int = (1 << 64) - 1

    def write(self, value: Any) -> Any:
        """As it is."""
        return value

    def read(self, data: Any, place: str) -> list[int]:
        """The numbers."""
        if not isinstance(data, list):
            raise wrong(place, data, "a list")
        whole = set(map(type, data)) <= {int} and (not data or (self.least <= min(data) and max(data) <= self.most))
        return data if whole else list(Listed(Number(self.least, self.most)).read(data, place))


class Texts(NamedTuple):
    """A list of texts, checked all at once."""

    def write(self, value: Any) -> Any:
        """As it is."""
        return value

    def read(self, data: Any, place: str) -> list[str]:
        """The texts."""
        if not isinstance(data, list):
            raise wrong(place, data, "a list")
        return data if set(map(type, data)) <= {str} else list(Listed(Text()).read(data, place))
