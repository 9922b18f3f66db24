"""Hosts: the real one, one held in memory, one held in a file; and where the history is kept.

All of them answer to :class:`fiat.core.model.host.Host`. The doors of this room:
``live.host``, ``image.host``, ``snapshot.reader``, ``history.sqlite``, ``accounts`` by source, ``elevation``,
``wholefile``.
"""

__all__ = (
    "accounts",
    "arrangements",
    "configuration",
    "elevation",
    "evidence",
    "history",
    "image",
    "live",
    "snapshot",
    "textfile",
    "trust",
    "wholefile",
)
