"""Evidence of the live host: what its packages own, what its services and its clock start, and how files begin.

The door of this room is :class:`fiat.host.evidence.live.LiveEvidence`.
"""

__all__ = ("live",)
