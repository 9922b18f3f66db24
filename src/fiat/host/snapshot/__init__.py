"""A host held in a file."""

__all__ = (
    "files",
    "folder",
    "host",
    "reader",
    "records",
    "writing",
)
