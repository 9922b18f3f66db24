"""Expectations: what was meant, as a file states it, and whether it holds.

The doors of this room: :func:`fiat.core.expect.reading.parse` reads a file,
:func:`fiat.core.expect.holding.check_expectation` says which expectations hold,
:func:`fiat.core.expect.holding.contradictions` which of them cannot hold at once, and
:func:`fiat.core.expect.mending.mending` what makes those hold that do not.
"""

__all__ = (
    "expectation",
    "holding",
    "mending",
    "reading",
)
