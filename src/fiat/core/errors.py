"""The errors of Fiat, one small tree.

    FiatError                 every error with a message made for a person
    ├── NotationError         a word fits no notation (mode, entry, right, …)
    ├── InvalidAccessList     well formed, but no list the kernel would take
    ├── UnknownAccount        no such user, group or process
    ├── AccountNotKnown       nobody could tell whether there is such a user or group
    ├── PathError             something about one path, with the errno
    │   ├── Interrupted       whoever runs Fiat stopped it there
    │   └── OtherNow          what is there is not what was looked at, or planned: no call of the kernel failed
    ├── RecordError           a record that is not as its schema says; names the place in it
    ├── ArrangementError      arrangements in a file that cannot be used; names the table and the key
    ├── ExpectationError      expectations in a file that cannot be used; names the line and the key
    ├── ElevationError        rules of elevation that cannot be used; names the place in them
    │   └── ElevationUnread   those of this host could not be read
    ├── HostError             this machine lacks what is needed to look at it
    ├── SnapshotError         a snapshot or accounts file that cannot be used
    ├── UntrustedFile         a file that says what is to be done, and that somebody else can write to
    ├── HistoryError          the history cannot be read or written, or is not to be trusted
    ├── RunError              a run of the history that is not there, or cannot be put back now
    │   └── RunDamaged        one that is not as it was written
    ├── EngineError           workers elsewhere that cannot be had, or are not fit to do the work
    └── WorkError             a process that did a part of the work has ended before it was done

Each message names the word that was wrong and says what would be right. Words
are kept raw in the attributes and quoted in the message with :func:`fiat.core.text.quoted`,
so that a message never carries a control character.
"""

import os
from errno import EINTR, ENODATA

from fiat.core.text import quoted


class FiatError(Exception):
    """An error whose message is one clear line for a person."""


class NotationError(FiatError):
    """A word that fits no notation.

    ``word`` is the part that was wrong, as it was written.
    """

    def __init__(self, word: str, message: str) -> None:
        super().__init__(word, message)
        self.word = word

    def __str__(self) -> str:
        return str(self.args[1])


class InvalidAccessList(FiatError):
    """Entries that the kernel would refuse together (EINVAL)."""


class ArrangementError(FiatError):
    """A file of arrangements that cannot be used, or one of its tables."""


class ConfigurationError(FiatError):
    """A file of the configuration is wrong: the message names it, and the line."""


class ExpectationError(FiatError):
    """A file of expectations is wrong."""


class ElevationError(FiatError):
    """Rules by which users may act as others that cannot be read as such."""


class ElevationUnread(ElevationError):
    """The rules of this host could not be read: no word was wrong."""


class UnknownAccount(FiatError):
    """A user, group or process that does not exist. ``word`` as written, ``near`` what is much like it, in words."""

    def __init__(self, word: str, message: str, near: str = "") -> None:
        super().__init__(word, message, near)
        self.word = word
        self.near = near

    def __str__(self) -> str:
        return str(self.args[1])


class AccountNotKnown(FiatError):
    """A user or group of whom it is not known whether they exist: a source of accounts did not answer."""

    def __init__(self, word: str, message: str) -> None:
        super().__init__(word, message)
        self.word = word

    def __str__(self) -> str:
        return str(self.args[1])


class PathError(FiatError):
    """Something that went wrong at one path.

    ``path`` is absolute, ``errno`` the kernel's number, ``doing`` what was
    tried there ("look at", "change the mode of"). Can be sent between
    processes.
    """

    def __init__(self, path: str, errno: int, doing: str = "look at", hint: str = "") -> None:
        super().__init__(path, errno, doing, hint)
        self.path = path
        self.errno = errno
        self.doing = doing
        self.hint = hint

    @property
    def reason(self) -> str:
        """The errno in words, and what it comes from."""
        if not self.errno:
            return self.hint
        words = "the snapshot does not hold it, or not all of it" if self.errno == ENODATA else os.strerror(self.errno)
        return f"{words}{'; ' + self.hint if self.hint else ''}"

    def __str__(self) -> str:
        return f"cannot {self.doing} {quoted(self.path)}: {self.reason}"


class Interrupted(PathError):
    """Work that whoever runs Fiat stopped (Ctrl-C) at ``path``: what came before it is done, the rest is not."""

    def __init__(self, path: str, doing: str = "read all of", hint: str = "") -> None:
        super().__init__(path, EINTR, doing, hint)

    def __reduce__(self) -> tuple[object, ...]:
        return type(self), (self.path, self.doing, self.hint)


class OtherNow(PathError):
    """What is at ``path`` is not what was looked at before; ``hint`` says what happened. It has no errno (0)."""

    def __init__(self, path: str, doing: str, hint: str) -> None:
        super().__init__(path, 0, doing, hint)

    def __reduce__(self) -> tuple[object, ...]:
        return type(self), (self.path, self.doing, self.hint)


class HostError(FiatError):
    """This machine lacks what Fiat looks at it through."""


class RecordError(FiatError):
    """A record that is not as its schema says. ``place`` is where in it: ``results[3].owner.uid``."""

    def __init__(self, place: str, message: str) -> None:
        super().__init__(place, message)
        self.place = place

    def __str__(self) -> str:
        return f"{self.place or 'this'} {self.args[1]}"


class SnapshotError(FiatError):
    """A snapshot, or a folder of accounts, that cannot be read as one."""


class UntrustedFile(FiatError):
    """A file that says what is to be done, and that others than root and whoever acts can write to, or put there."""


class HistoryError(FiatError):
    """The history of changes cannot be read or written, or others may have written to it.

    ``only_to_write`` says that it is writing which fails: what is in it may still be read.
    """

    def __init__(self, message: str, *, only_to_write: bool = False) -> None:
        super().__init__(message)
        self.only_to_write = only_to_write


class RunError(FiatError):
    """A run of the history that is not there, or cannot be put back now."""


class RunDamaged(RunError):
    """A run of the history that is not as it was written. ``reason`` says what is wrong with it."""

    def __init__(self, number: int, reason: str) -> None:
        super().__init__(number, reason)
        self.number = number
        self.reason = reason

    def __str__(self) -> str:
        return f"run {self.number} is damaged, and left alone: {self.reason}; fiat history --verify says what else is"


class EngineError(FiatError):
    """Workers elsewhere that cannot be reached, or that are not what they must be."""


class WorkError(FiatError):
    """A process that did a part of the work was ended before it was done, by a signal most often."""
