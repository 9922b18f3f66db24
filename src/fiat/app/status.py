"""Exit statuses, and which counts where several apply."""

from enum import IntEnum


class Status(IntEnum):
    """What the exit status of ``fiat`` says."""

    DONE = 0  # or: the answer is yes
    NO = 1  # the answer is no: denied, differs, found
    WRONG_COMMAND_LINE = 2
    IN_PART = 3  # each path that failed is named on stderr
    GUARDED = 4  # refused by a guard, nothing changed
    DEFECT = 5  # Fiat itself failed: never an answer
    INTERRUPTED = 130  # by Ctrl-C, whatever was done until then


_FIRST = (Status.INTERRUPTED, Status.WRONG_COMMAND_LINE, Status.GUARDED, Status.IN_PART, Status.NO, Status.DONE)


def of_several(*statuses: Status) -> Status:
    """The one that counts: that it was interrupted, a wrong command line, a guard, what was done in part, a no."""
    return min(statuses, key=_FIRST.index)
