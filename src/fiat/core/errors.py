"""The errors of Fiat, one small tree.

    FiatError                 every error with a message made for a person
    ├── NotationError         a word fits no notation (mode, entry, right, …)
    ├── InvalidAccessList     well formed, but no list the kernel would take
    ├── UnknownAccount        no such user, group or process
    ├── PathError             something about one path, with the errno
    ├── SnapshotError         a snapshot or accounts file that cannot be used
    └── HistoryError          the history cannot be read or written

Each message names the word that was wrong and says what would be right. Words
are kept raw in the attributes and quoted in the message with :func:`fiat.core.text.quoted`,
so that a message never carries a control character.
"""

import os

from fiat.core.text import quoted


class FiatError(Exception):
    """An error whose message is one clear line for a person."""


class NotationError(FiatError):
    """A word that fits no notation.

    ``word`` is the part that was wrong, as it was written.
    """

    def __init__(self, word: str, message: str) -> None:
        super().__init__(message)
        self.word = word


class InvalidAccessList(FiatError):
    """Entries that the kernel would refuse together (EINVAL)."""


class UnknownAccount(FiatError):
    """A user, group or process that does not exist. ``word`` as written."""

    def __init__(self, word: str, message: str) -> None:
        super().__init__(message)
        self.word = word


class PathError(FiatError):
    """Something that went wrong at one path.

    ``path`` is absolute, ``errno`` the kernel's number, ``doing`` what was
    tried there ("look at", "change the mode of").
    """

    def __init__(self, path: str, errno: int, doing: str = "look at", hint: str = "") -> None:
        reason = os.strerror(errno)
        super().__init__(f"cannot {doing} {quoted(path)}: {reason}{'; ' + hint if hint else ''}")
        self.path = path
        self.errno = errno


class SnapshotError(FiatError):
    """A snapshot, or a folder of accounts, that cannot be read as one."""


class HistoryError(FiatError):
    """The history of changes cannot be read or written."""
