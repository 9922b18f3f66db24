"""What guards look at: each kind of change in a plan."""

from typing import NamedTuple

from fiat.core.change.steps import Change
from fiat.core.tree.profile import Profile


class Suspect(NamedTuple):
    """One kind of change in a plan: what it is made to, and on how many paths, of which ``example`` is one.

    ``known`` tells that these had what comes out before, with the same contents; ``held`` that only flags keep
    it from being made.
    """

    profile: Profile
    change: Change
    example: str
    paths: int
    known: bool = False
    held: bool = False


WHO = "\0"
"""Stands in what is said of a change for the one whom it is about: for many owners it is said once."""
