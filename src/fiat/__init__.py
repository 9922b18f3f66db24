"""Fiat: what every path allows, and who can therefore really get at it."""

__version__ = "0.1.0"
