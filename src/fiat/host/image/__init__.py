"""A host held in memory."""

__all__ = ("host",)
