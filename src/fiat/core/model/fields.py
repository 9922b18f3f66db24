"""Values by name, as machine output and files have them."""

from typing import Any

Fields = dict[str, Any]
"""The members of a JSON object."""
