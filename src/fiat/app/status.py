"""Exit statuses, and which counts where several apply."""

from enum import IntEnum


class ExitStatus(IntEnum):
    """What the exit status of ``fiat`` says."""

    DONE = 0  # or: the answer is yes
    NO = 1  # the answer is no: denied, differs, found
    WRONG_COMMAND_LINE = 2
    IN_PART = 3  # each path that failed is named on stderr
    GUARDED = 4  # refused by a guard, nothing changed
    DEFECT = 5  # Fiat itself failed: never an answer
    INTERRUPTED = 130  # by Ctrl-C, whatever was done until then


_FIRST = (
    ExitStatus.INTERRUPTED,
    ExitStatus.WRONG_COMMAND_LINE,
    ExitStatus.GUARDED,
    ExitStatus.IN_PART,
    ExitStatus.NO,
    ExitStatus.DONE,
)


def of_several(*statuses: ExitStatus) -> ExitStatus:
    """The one that counts: that it was interrupted, a wrong command line, a guard, what was done in part, a no."""
    return min(statuses, key=_FIRST.index)
