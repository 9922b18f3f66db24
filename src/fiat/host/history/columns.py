"""Columns that hold JSON."""

import json
from typing import Any, NamedTuple

from fiat.core.errors import RecordError
from fiat.core.model.schema import Form, Text


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
