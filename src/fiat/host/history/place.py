"""Where the history of whoever acts is kept."""

import os

_ROOTS = "/var/lib/fiat"
_NAME = "history.db"


def usual_place() -> str:
    """Where the history of whoever acts is kept: for root under /var/lib, for others in their own state folder."""
    if os.geteuid() == 0:
        return f"{_ROOTS}/{_NAME}"
    from platformdirs import user_state_dir

    return os.path.join(user_state_dir("fiat"), _NAME)
