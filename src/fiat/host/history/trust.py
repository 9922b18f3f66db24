"""Whether a history can have been written by anybody but its owner: what it puts back is done with our rights."""

import os
from contextlib import suppress

from fiat.core.errors import HistoryError, UntrustedFile
from fiat.core.text import quoted
from fiat.host.history.place import usual_place
from fiat.host.trust import Way

BESIDE = ("-journal", "-wal", "-shm")
"""What SQLite keeps beside a file while it is written, and reads when it is opened after a crash."""


def trusted(place: str, *, make_folder: bool = False) -> str:
    """The history ``place`` by its real path, which is there or may be made.

    With ``make_folder`` the directories on its way are made where they are missing,
    for nobody else. Raises :class:`HistoryError` where somebody else may have
    written to it, and OSError where it cannot be reached.
    """
    better = f", such as {quoted(usual_place())}" if place != usual_place() else ""
    way = Way("the history", place, f"keep it where only its owner can{better}")
    try:
        path = way.file(make_folder=make_folder, private=True)
        for ending in BESIDE:
            called = f"what is kept beside the history ({quoted(path + ending)})"
            with suppress(FileNotFoundError):
                way.look_at_file(path + ending, os.lstat(path + ending), private=True, called=called)
    except UntrustedFile as error:
        raise HistoryError(str(error)) from error
    return path
