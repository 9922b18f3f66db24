"""Colours: those of Okabe and Ito, told apart whatever kind of colour-blindness, and each with a form of its own."""

from typing import NamedTuple

from fiat.core.model import right as rights_
from fiat.core.model.right import Right

INK, FAINT, PALE, RULE, PAPER = "#1a1a1a", "#5f6368", "#c4c7cc", "#d7dade", "#ffffff"
GAIN, LOSS, WARN, TINT = "#0072b2", "#d55e00", "#d55e00", "#fdf0d5"


class Sign(NamedTuple):
    """How a right is shown."""

    form: str
    colour: str


SIGNS = {
    rights_.READ: Sign("circle", "#0072b2"),
    rights_.WRITE: Sign("square", "#d55e00"),
    rights_.EXECUTE: Sign("up", "#007a5a"),
    rights_.TRAVERSE: Sign("up", "#007a5a"),
}
"""Other rights share a sign, and are told apart by their place."""

OTHER = Sign("diamond", "#a3447f")


def sign_of(right: Right) -> Sign:
    """How ``right`` is shown."""
    return SIGNS.get(right, OTHER)


STEPS = ("#f1f3f5", "#d6e6f2", "#a9cfe6", "#6cadd1", "#2f82b5", "#0a527d")
"""From few to many: each is darker than the one before, in print too."""

ANYONE = "#d55e00"
"""What is open to anyone."""

LINES = ("#0072b2", "#d55e00", "#007a5a", "#a3447f", "#a06a00", "#3a3a3a")
"""Lines that are to be told apart; their ends are named as well."""
