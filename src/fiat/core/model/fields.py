"""Values by name, as machine output and files have them."""

from fiat.core.typed import Any

Fields = dict[str, Any]
"""The members of a JSON object."""
