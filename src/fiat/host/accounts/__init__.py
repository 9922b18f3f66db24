"""Accounts by source: this host's name service, or a folder of files.

The doors of this room: ``nameservice`` and ``folder``. The sources that nsswitch.conf(5) names are asked through their
``modules``, in a process of its own (``asking``).
"""

__all__ = (
    "folder",
    "nameservice",
)
