"""The state of a host at one time: captured to be kept, compared with another, and put back.

The doors of this room: ``capture``, ``comparison``, ``restoring``.
"""

__all__ = (
    "betweenhosts",
    "capture",
    "comparison",
    "fleet",
    "matching",
    "openings",
    "restoring",
)
