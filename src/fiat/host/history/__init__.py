"""Where the history of changes is kept."""

__all__ = (
    "place",
    "sqlite",
)
