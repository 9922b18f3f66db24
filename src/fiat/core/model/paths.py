"""Absolute paths, compared as text."""


def lies_under(path: str, top: str) -> bool:
    """Whether ``path`` is ``top``, or a path in it."""
    return f"{path}/".startswith(f"{top.rstrip('/')}/")
