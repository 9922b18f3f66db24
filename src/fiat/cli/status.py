"""Exit statuses."""

from enum import IntEnum


class Status(IntEnum):
    """What the exit status of ``fiat`` says."""

    DONE = 0  # or: the answer is yes
    NO = 1  # the answer is no: denied, differs, found
    WRONG_COMMAND_LINE = 2
    IN_PART = 3  # each path that failed is named on stderr
    GUARDED = 4  # refused by a guard, nothing changed
