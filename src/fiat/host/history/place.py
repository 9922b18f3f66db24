"""Where the history of whoever acts is kept, and whether it is to be trusted."""

import os
from contextlib import suppress

from fiat.core.errors import HistoryError, UntrustedFile
from fiat.core.text import quoted
from fiat.host.trust import FileRoute

_ROOTS = "/var/lib/fiat"
_NAME = "history.db"


def usual_place() -> str:
    """Where the history of whoever acts is kept: for root under /var/lib, for others in their own state folder."""
    if os.geteuid() == 0:
        return f"{_ROOTS}/{_NAME}"
    from platformdirs import user_state_dir

    return os.path.join(user_state_dir("fiat"), _NAME)


BESIDE = ("-journal", "-wal", "-shm")
"""What SQLite keeps beside a file while it is written, and reads when it is opened after a crash."""


def trusted(place: str, *, make_folder: bool = False) -> str:
    """The history ``place`` by its real path, which is there or may be made.

    With ``make_folder`` the directories on its way are made where they are missing,
    for nobody else. Raises :class:`HistoryError` where somebody else may have
    written to it, and OSError where it cannot be reached.
    """
    better = f", such as {quoted(usual_place())}" if place != usual_place() else ""
    way = FileRoute("the history", place, f"keep it where only its owner can{better}")
    try:
        path = way.file(make_folder=make_folder, private=True)
        for ending in BESIDE:
            called = f"what is kept beside the history ({quoted(path + ending)})"
            with suppress(FileNotFoundError):
                way.look_at_file(path + ending, os.lstat(path + ending), private=True, called=called)
    except UntrustedFile as error:
        raise HistoryError(str(error)) from error
    return path
