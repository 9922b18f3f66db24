"""Accounts by source: this host's name service, or a folder of files.

The doors of this room: ``nameservice`` and ``folder``; what reads the account files (``files``) and nsswitch.conf
(``switch``).
"""

__all__ = (
    "asking",
    "files",
    "folder",
    "nameservice",
    "switch",
)
