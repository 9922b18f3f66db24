"""Advice: something that would have to change for a refusal to become a yes."""

from typing import NamedTuple

from fiat.core.model.wish import Wish
from fiat.core.text import counted


class Advice(NamedTuple):
    """Something that would have to change so that ``path`` refuses no more.

    ``effect`` says in words whom it is for. ``wish`` is what to ask of that
    path, None where it is not Fiat's to do. ``others`` counts users, beside whom it
    is for, who would gain something there.
    """

    effect: str
    path: str
    wish: Wish | None = None
    others: int = 0
    group: int | None = None
    suffices: bool = False


def with_others(advice: Advice) -> str:
    """The effect in words, with how many others would gain by it."""
    if not advice.others:
        return advice.effect
    gain = "gains" if advice.others == 1 else "gain"
    return f"{advice.effect.replace(' alone', '')}; {counted(advice.others, 'other')} {gain} by it"
