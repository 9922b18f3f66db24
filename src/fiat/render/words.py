"""Plain words for what the core holds in codes."""

from fiat.core.model.posture import Kind
from fiat.core.model.right import Right

KIND = {
    Kind.FILE: "regular file",
    Kind.DIRECTORY: "directory",
    Kind.SYMLINK: "symlink",
    Kind.FIFO: "named pipe",
    Kind.SOCKET: "socket",
    Kind.BLOCK: "block device",
    Kind.CHARACTER: "character device",
}

KINDS = {
    Kind.FILE: "files",
    Kind.DIRECTORY: "directories",
    Kind.SYMLINK: "symlinks",
    Kind.FIFO: "named pipes",
    Kind.SOCKET: "sockets",
    Kind.BLOCK: "block devices",
    Kind.CHARACTER: "character devices",
}
"""The words for several objects of a kind."""


def permissions(value: int, kind: Kind) -> str:
    """What permissions (0 to 7) let one do with an object of this kind: ``read, write``."""
    if kind is Kind.DIRECTORY:
        return _on_directory(value)
    return ", ".join(word for bit, word in ((4, "read"), (2, "write"), (1, "execute")) if value & bit) or "nothing"


def _on_directory(value: int) -> str:
    if value & 1:
        return ", ".join(
            word
            for bits, word in ((4, "list names"), (3, "add and remove names"), (1, "traverse"))
            if value & bits == bits
        )
    if value & 4:
        return "list names, no more: nothing in it can be used without x"
    return "nothing: w does nothing without x" if value else "nothing"


def right_heading(right: Right, kind: Kind) -> str:
    """The column heading of a right on an object of this kind."""
    return right.heading_on.get(kind, right.name)


def right_phrase(right: Right, kind: Kind | None) -> str:
    """The right as a verb for a sentence: ``list the names in``."""
    return right.phrase if kind is None else right.phrase_on.get(kind, right.phrase)


NO_UMASK = "In a directory with a default list the umask does not count: new entries take that list over."
