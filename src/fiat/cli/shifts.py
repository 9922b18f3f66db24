"""Gains and losses, in text and as machine output."""

from collections.abc import Sequence
from typing import Any

from fiat.cli import terminal, words
from fiat.core import naming
from fiat.core.principals import Principal
from fiat.core.shift import Shift
from fiat.core.visible import visible


def shift_fields(shift: Shift) -> dict[str, Any]:
    """The machine output of one gain or loss."""
    return {"who": words.who_word(shift.principal), "right": shift.right, "paths": shift.paths}


def print_shifts(title: str, shifts: Sequence[Shift]) -> None:
    """Those who gain, or lose, the same share a line: the rights first, then who, users first."""
    rights: dict[Principal, list[str]] = {}
    for shift in shifts:
        where = f" on {words.counted(shift.paths, 'path')}" if shift.paths > 1 else ""
        rights.setdefault(shift.principal, []).append(shift.right + where)
    together: dict[str, list[Principal]] = {}
    for principal, given in rights.items():
        together.setdefault(naming.joined(given), []).append(principal)
    if not together:
        print(f"{title}  nobody")
    for what, principals in together.items():
        users = [words.principal(who) for who in principals if who.kind in ("user", "process")]
        groups = [visible(words.who_word(who)[6:]) for who in principals if who.kind == "group"]
        parts = [words.several(users, "users")] if users else []
        if groups:
            parts.append(f"whoever is in {words.several(groups, 'groups', show=4)}")
        if any(who.kind == "anyone-else" for who in principals):
            parts.append("anyone else")
        terminal.say(f"{title}  {what}: {'; '.join(parts)}", hanging="       ")
