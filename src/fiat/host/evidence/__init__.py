"""Evidence of the live host: what its packages own, what is started without anybody asking, and how files begin.

The door of this room is :class:`fiat.host.evidence.live.LiveEvidence`. Each source of what is started has a reader,
named after it, and :mod:`sources` asks them all; what a login gives (:mod:`fiat.host.logins`) reads some of the same
files by ``texts``, ``commandlines`` and ``units``.
"""

__all__ = ("live",)
