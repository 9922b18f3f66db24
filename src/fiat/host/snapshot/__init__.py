"""A host held in a file."""

__all__ = (
    "files",
    "fleet",
    "folder",
    "host",
    "reader",
    "records",
    "writing",
)
