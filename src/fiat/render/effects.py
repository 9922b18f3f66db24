"""Gains and losses, in text and as machine output."""

from collections.abc import Iterable, Iterator, Sequence

from fiat.core.ask.effects import Shift
from fiat.core.ask.keptshifts import KeptShift
from fiat.core.model.fields import Fields
from fiat.core.text import counted, joined, several, visible
from fiat.core.words import naming
from fiat.render.model import Block, Prose, Verbatim

_MOST = 12
"""Lines of gains, or of losses, before the rest is only counted; those that most people share come first."""


def shift_fields(shift: Shift) -> Fields:
    """The machine output of one gain or loss."""
    return {"who": naming.word_for(shift.principal), "right": shift.right.name, "paths": shift.paths}


def kept_fields(shift: KeptShift) -> Fields:
    """The machine output of one that the history kept."""
    return {"who": shift.who, "right": shift.right, "paths": shift.paths}


def shift_blocks(title: str, shifts: Sequence[KeptShift]) -> Iterator[Block]:
    """Those who gain, or lose, the same share a line: the rights first, then who, users first.

    A right that nearly always goes with another, such as renaming with
    deleting, is only mentioned where it does not.
    """
    rights: dict[str, list[str]] = {}
    for who, right, paths, apart in shifts:
        if apart:
            where = f" on {counted(apart if apart < paths else paths, 'path')}" if apart > 1 else ""
            rights.setdefault(who, []).append(right + where)
    alike: dict[str, list[str]] = {}
    for who, given in rights.items():
        alike.setdefault(joined(given), []).append(who)
    if not alike:
        yield Verbatim(f"{title}  nobody")
    shown = sorted(alike.items(), key=lambda item: -len(item[1]))
    for what, people in shown[:_MOST]:
        yield Prose(f"{title}  {what}: {_people(people)}", hanging="       ")
    left = sum(len(people) for _, people in shown[_MOST:])
    if left:
        yield Verbatim(f"{title}  something else each: {left:,} more users and groups; --format json names all of them")


def _people(words: Iterable[str]) -> str:
    given = list(words)
    groups = [visible(who.removeprefix("group:")) for who in given if who.startswith("group:")]
    users = [naming.from_word(who) for who in given if not who.startswith("group:") and who != "anyone-else"]
    parts = [several(users, "users")] if users else []
    if groups:
        parts.append(f"whoever is in {several(groups, 'groups', show=4)}")
    if "anyone-else" in given:
        parts.append("anyone else")
    return "; ".join(parts)
