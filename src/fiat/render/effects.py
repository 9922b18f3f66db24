"""Gains and losses, in text and as machine output."""

from collections.abc import Iterable, Iterator, Sequence

from fiat.core.ask.effects import Shift
from fiat.core.ask.keptshifts import KeptShift
from fiat.core.model.accounts import Accounts
from fiat.core.model.fields import Fields
from fiat.core.model.principals import Universe
from fiat.core.text import counted, joined
from fiat.core.words import naming
from fiat.core.words.people import everyone_but, several_groups, several_words
from fiat.render.model import Block, Prose, Span, Verbatim

_MOST = 12
"""Lines of gains, or of losses, before the rest is only counted; those that most people share come first."""


def shift_fields(shift: Shift) -> Fields:
    """The machine output of one gain or loss."""
    return {"who": naming.word_for(shift.principal), "right": shift.right.name, "paths": shift.paths}


def kept_fields(shift: KeptShift) -> Fields:
    """The machine output of one that the history kept."""
    return {"who": shift.who, "right": shift.right, "paths": shift.paths}


def shift_blocks(
    title: str, shifts: Sequence[KeptShift], accounts: Accounts, unlisted: Iterable[str] | None
) -> Iterator[Block]:
    """Those who gain, or lose, the same share a line: the rights first, then who, people first.

    On how many paths it is does not keep them apart. A right that nearly always
    goes with another, such as renaming with deleting, is only mentioned where it does
    not. ``unlisted`` are users without an account who might have gained or lost as well; None where the
    accounts are not those of the time that is spoken of.
    """
    rights: dict[str, dict[str, int]] = {}
    for who, right, paths, apart in shifts:
        if apart:
            rights.setdefault(who, {})[right] = min(apart, paths)
    alike: dict[tuple[str, ...], list[str]] = {}
    for who, given in rights.items():
        alike.setdefault(tuple(given), []).append(who)
    if not alike:
        yield Verbatim(f"{title}  nobody")
    shown = sorted(alike.items(), key=lambda item: -len(item[1]))
    style = _STYLES.get(title, "")
    for names, people in shown[:_MOST]:
        what = joined(f"{right}{_on([rights[who][right] for who in people])}" for right in names)
        whom = people_words(people, accounts, unlisted)
        yield Prose([Span(title, style), f"  {what}: {whom}"], hanging="       ")
    left = sum(len(people) for _, people in shown[_MOST:])
    if left:
        yield Verbatim(f"{title}  something else each: {left:,} more users and groups; --json names all of them")


_STYLES = {"Gains": "yes", "Loses": "no"}


def _on(counts: Sequence[int]) -> str:
    """On how many paths: nothing for one, the same number for all, or from the least to the most."""
    least, most = min(counts), max(counts)
    if most == 1:
        return ""
    return f" on {counted(most, 'path')}" if least == most else f" on {least:,} to {most:,} paths"


def unlisted_in(universe: Universe) -> set[str]:
    """The words for users without an account."""
    return {naming.word_for(who) for who in universe.principals if who.kind == "user" and who.name is None}


def people_words(words: Sequence[str], accounts: Accounts, unlisted: Iterable[str] | None) -> str:
    """People by the words for them, in short, or those who are left out; ``unlisted`` are those without an account."""
    groups = [who for who in words if who.startswith("group:")]
    users = [who for who in words if not who.startswith("group:") and who != "anyone-else"]
    if unlisted is not None and "anyone-else" in words:
        everyone = everyone_but(words, accounts, unlisted)
        if everyone is not None:
            return everyone
    parts = [several_words(users, accounts, 6)] if users else []
    if groups:
        parts.append(f"whoever is in {several_groups(groups, accounts, 4)}")
    if "anyone-else" in words:
        parts.append("anyone else")
    return "; ".join(parts)
