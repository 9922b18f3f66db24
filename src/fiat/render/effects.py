"""Gains and losses, in text and as machine output."""

from collections.abc import Iterable, Sequence
from typing import Any

from fiat.core.ask.effects import Shift
from fiat.core.change.history import Shifted
from fiat.core.text import visible
from fiat.core.words import naming
from fiat.render import terminal, words

_MOST = 12
"""Lines of gains, or of losses, before the rest is only counted; those that most people share come first."""


def told(shifts: Iterable[Shift]) -> tuple[Shifted, ...]:
    """Gains or losses in words that a command line takes, as they are kept and printed."""
    return tuple(Shifted(words.who_word(shift.principal), shift.right, shift.paths) for shift in shifts)


def shift_fields(shift: Shift) -> dict[str, Any]:
    """The machine output of one gain or loss."""
    return {"who": words.who_word(shift.principal), "right": shift.right, "paths": shift.paths}


def print_shifts(title: str, shifts: Sequence[Shifted]) -> None:
    """Those who gain, or lose, the same share a line: the rights first, then who, users first."""
    rights: dict[str, list[str]] = {}
    for who, right, paths in shifts:
        where = f" on {words.counted(paths, 'path')}" if paths > 1 else ""
        rights.setdefault(who, []).append(right + where)
    together: dict[str, list[str]] = {}
    for who, given in rights.items():
        together.setdefault(naming.joined(given), []).append(who)
    if not together:
        print(f"{title}  nobody")
    shown = sorted(together.items(), key=lambda item: -len(item[1]))
    for what, people in shown[:_MOST]:
        groups = [visible(who.removeprefix("group:")) for who in people if who.startswith("group:")]
        users = [_user(who) for who in people if not who.startswith("group:") and who != "anyone-else"]
        parts = [words.several(users, "users")] if users else []
        if groups:
            parts.append(f"whoever is in {words.several(groups, 'groups', show=4)}")
        if "anyone-else" in people:
            parts.append("anyone else")
        terminal.say(f"{title}  {what}: {'; '.join(parts)}", hanging="       ")
    left = sum(len(people) for _, people in shown[_MOST:])
    if left:
        print(f"{title}  something else each: {left:,} more users and groups; --format json tells of all")


def _user(who: str) -> str:
    kind, colon, number = who.partition(":")
    if colon and kind in ("uid", "pid"):
        return f"uid {number}" if kind == "uid" else f"process {number}"
    return visible(who)
