"""How changes look: before and after side by side, equal changes in one row; who gains and who loses by them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from fiat.core.ask.effects import Effects, KeptShift, PathsBehind, Shift, kept
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import names
from fiat.core.model.mode import letters, octal, permission_letters
from fiat.core.model.posture import Kind, Posture
from fiat.core.model.principals import Universe
from fiat.core.text import FEW, Fields, counted, joined, several, visible
from fiat.core.words import naming
from fiat.core.words.naming import everyone_but, several_groups, several_words
from fiat.render import words
from fiat.render.model import Block, FullLine, Prose, Span, Spans, Table, Verbatim, unbroken

if TYPE_CHECKING:
    from fiat.core.ask.pathsbehind import TopmostPaths

_MOST_NAMED = 12
"""Lines of gains, or of losses, before the rest is only counted; those that most people share come first."""


def effects_fields(effects: Effects | None, *, losses: bool = True) -> Fields:
    """The machine output of gains and losses, each with the topmost paths that it is about."""
    found: Fields = {"gains": [], "losses": []}
    if effects is not None:
        found["gains"] = [_shift_fields(shift, effects.paths_gained) for shift in effects.gains]
        found["losses"] = [_shift_fields(shift, effects.paths_lost) for shift in effects.losses if losses]
    return found


def _shift_fields(shift: Shift, behind: PathsBehind) -> Fields:
    who, right = naming.word_for(shift.principal), shift.right.name
    top = behind.of([(who, right)])
    return {"who": who, "right": right, "paths": shift.paths, "topmost": list(top.paths), "more": top.more}


Behind = Callable[[Sequence[tuple[str, str]]], "TopmostPaths"]
"""The topmost paths behind gains, or losses: who, as a word, and the name of the right."""


def kept_fields(shift: KeptShift) -> Fields:
    """The machine output of one that the history kept."""
    return {"who": shift.who, "right": shift.right, "paths": shift.paths}


def shift_blocks(
    title: str,
    shifts: Sequence[KeptShift],
    accounts: Accounts,
    unlisted: Iterable[str] | None,
    behind: Behind | None = None,
    indent: int = 0,
) -> Iterator[Block]:
    """Those who gain, or lose, the same share a line: the rights first, then who, people first.

    On how many paths it is does not keep them apart. A right that nearly always
    goes with another, such as renaming with deleting, is only mentioned where it does
    not. ``unlisted`` are users without an account who might have gained or lost as well; None where the
    accounts are not those of the time that is spoken of. With what is ``behind`` them, the topmost paths of
    each line follow it.
    """
    rights: dict[str, dict[str, int]] = {}
    for who, right, paths, apart in shifts:
        if apart:
            rights.setdefault(who, {})[right] = min(apart, paths)
    alike: dict[tuple[str, ...], list[str]] = {}
    for who, given in rights.items():
        alike.setdefault(tuple(given), []).append(who)
    if not alike:
        yield Verbatim(f"{title}  nobody", indent)
    shown = sorted(alike.items(), key=lambda item: -len(item[1]))
    style = _STYLES.get(title, "")
    for rights_alike, people in shown[:_MOST_NAMED]:
        what = joined(f"{right}{_on([rights[who][right] for who in people])}" for right in rights_alike)
        whom = people_words(people, accounts, unlisted)
        yield Prose([Span(title, style), f"  {what}: {whom}"], indent, hanging="       ")
        if behind is not None:
            yield from paths_of(behind([(who, right) for who in people for right in rights_alike]), indent)
    left = sum(len(people) for _, people in shown[_MOST_NAMED:])
    if left:
        yield Verbatim(f"{title}  something else each: {left:,} more users and groups; --json names all of them")


def effects_blocks(
    effects: Effects, accounts: Accounts, *, paths: bool, indent: int = 0, losses: bool = True
) -> Iterator[Block]:
    """Who gains and who loses (unless ``losses`` are left out), with ``paths`` on which paths."""
    unlisted = unlisted_in(effects.universe)
    for title, shifts, behind in (
        ("Gains", effects.gains, effects.paths_gained),
        ("Loses", effects.losses, effects.paths_lost),
    ):
        if title == "Gains" or losses:
            yield from shift_blocks(title, kept(shifts), accounts, unlisted, behind.of if paths else None, indent)


def paths_of(found: TopmostPaths, indent: int = 0) -> Iterator[Block]:
    """The paths that a line above is about, a line each."""
    for path in found.paths:
        yield Verbatim(unbroken(visible(path)), indent + 4)
    if found.more:
        yield Verbatim(
            f"and {found.more:,} more" if found.paths else f"{counted(found.more, 'path')}, not named", indent + 4
        )


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


_MOST = 12
"""Kinds of change that are shown before the rest is only counted."""

_OWNERS = ("owner", "group")
"""What may be of many: then it is one kind of change."""


class Changed(NamedTuple):
    """So many objects that change from ``before`` to ``after``, one of them at ``example``; where they are few, all of
    them are at ``every``.

    ``other_flags`` are the flags before and after that have no say in access, where these differ.
    """

    before: Posture
    after: Posture
    example: str
    paths: int
    other_flags: tuple[tuple[str, ...], tuple[str, ...]] | None = None
    every: tuple[str, ...] = ()


def change_blocks(
    changes: Iterable[Changed], accounts: Accounts, most: int = _MOST, sides: tuple[str, str] = ("before", "after")
) -> Iterator[Block]:
    """Each kind of change under the paths it is for, the most frequent first; what is the same everywhere stays out.

    ``sides`` are the headings of the two columns."""
    kinds = kinds_of(changes, accounts)
    shown = kinds[:most]
    rows: list[list[Spans] | FullLine] = []
    for (kind, differences), (count, example) in shown:
        rows += [FullLine(line) for line in where_of(kind, count, example)]
        rows += [[what, before, Span(after, "changed")] for what, before, after in differences]
    if any(not isinstance(row, FullLine) for row in rows):
        yield Table(["", *sides], rows, flexible=(1, 2), indent=2)
    left = kinds[most:]
    if left:
        paths = sum(count for _, (count, _) in left)
        yield Verbatim(f"and {counted(len(left), 'more kind')} of change, of {counted(paths, 'path')}", 1)


_Difference = tuple[str, str, str]


def kinds_of(
    changes: Iterable[Changed], accounts: Accounts
) -> list[tuple[tuple[Kind, tuple[_Difference, ...]], tuple[int, tuple[str, ...]]]]:
    """Changes of the same things on objects of the same kind, with how many there are and an example."""
    alike: dict[tuple[object, ...], list[Changed]] = {}
    for change in changes:
        alike.setdefault((*_what_differs(change.before, change.after), change.other_flags), []).append(change)
    found: dict[tuple[object, ...], list[list[Changed]]] = {}
    for some in alike.values():
        found.setdefault(_but_for_owners(some[0], accounts), []).append(some)
    together = [_together([one for some in several for one in some], accounts) for several in found.values()]
    return sorted(together, key=lambda item: (-item[1][0], item[1][1]))


def _but_for_owners(change: Changed, accounts: Accounts) -> tuple[object, ...]:
    """What differs, in words, owners and groups left out: many of these are told together."""
    told = _differences(change, accounts)
    return change.before.kind, *((what,) if what in _OWNERS else (what, *values) for what, *values in told)


def _together(
    changes: list[Changed], accounts: Accounts
) -> tuple[tuple[Kind, tuple[_Difference, ...]], tuple[int, tuple[str, ...]]]:
    """Changes that are one kind, as one: but for owners and groups, what differs is the same in all of them."""
    first = changes[0]
    rows = []
    for what, before, after in _differences(first, accounts):
        if what in _OWNERS:
            before, after = (
                several(dict.fromkeys(_owners(changes, side, accounts, users=what == "owner")), f"{what}s", show=3)
                for side in (0, 1)
            )
        rows.append((what, before, after))
    count = sum(change.paths for change in changes)
    every = tuple(path for change in changes for path in (change.every or (change.example,)))
    return (first.before.kind, tuple(rows)), (count, every if len(every) == count <= FEW else (first.example,))


def _owners(changes: Sequence[Changed], side: int, accounts: Accounts, *, users: bool) -> Iterator[str]:
    """The owners, or the groups, of one side of changes, each number once."""
    postures = (change.before if side == 0 else change.after for change in changes)
    for number in dict.fromkeys(one.uid if users else one.gid for one in postures):
        yield naming.user_with_number(number, accounts) if users else naming.group_with_number(number, accounts)


def _what_differs(before: Posture, after: Posture) -> tuple[object, ...]:
    """What two changes have in common that are put in the same words; cheaper than the words."""
    listed = before[4:] != (None, None, (), None) or after[4:] != (None, None, (), None)
    return (
        before.kind,
        before.mode,
        after.mode,
        (before.uid, after.uid) if before.uid != after.uid else None,
        (before.gid, after.gid) if before.gid != after.gid else None,
        (before[4:], after[4:]) if listed else None,
    )


def where_of(kind: Kind, count: int, paths: tuple[str, ...]) -> list[str]:
    """The paths, a line each, or how many there are."""
    if len(paths) == count:
        return [visible(path) for path in paths]
    return [f"{count:,} {words.KINDS[kind]}, {'such as' if count > FEW else 'the first'} {visible(paths[0])}"]


def _differences(change: Changed, accounts: Accounts) -> Iterator[_Difference]:
    """What differs of these, the other flags last."""
    yield from differences(change.before, change.after, accounts)
    if change.other_flags is not None:
        yield "other flags", *(" ".join(flags) or "none" for flags in change.other_flags)  # type: ignore[misc]


def differences(before: Posture, after: Posture, accounts: Accounts) -> Iterator[_Difference]:
    """What differs: its name, and what it was and what it is, in codes and words."""
    kind = before.kind
    if before.uid != after.uid:
        yield "owner", *(naming.user_with_number(uid, accounts) for uid in (before.uid, after.uid))  # type: ignore[misc]
    if before.gid != after.gid:
        yield "group", *(naming.group_with_number(gid, accounts) for gid in (before.gid, after.gid))  # type: ignore[misc]
    if kind is Kind.SYMLINK:
        return
    if before.mode != after.mode:
        yield "mode", _mode_words(before), _mode_words(after)
    for what, given, had, has in (
        ("", kind, _entries(before, accounts), _entries(after, accounts)),
        ("default ", Kind.DIRECTORY, _default_entries(before, accounts), _default_entries(after, accounts)),
    ):
        for name in dict.fromkeys((*had, *has)):
            if had.get(name) != has.get(name):
                yield what + name, _class_words(had.get(name), given), _class_words(has.get(name), given)
    if before.capabilities != after.capabilities:
        yield "capabilities", _capability_words(before), _capability_words(after)
    if before.flags != after.flags:
        yield "flags", _flag_words(before), _flag_words(after)


def _mode_words(posture: Posture) -> str:
    return f"{octal(posture.mode)}  {letters(posture.mode)}"


def _entries(posture: Posture, accounts: Accounts) -> dict[str, int]:
    """What each class or entry gets, by what it is called."""
    found = {"for the owner": posture.mode >> 6 & 7}
    if posture.acl is not None:
        found |= _of_list(posture.acl, accounts)
    else:
        found["for its group"] = posture.mode >> 3 & 7
    return found | {"for others": posture.mode & 7}


def _default_entries(posture: Posture, accounts: Accounts) -> dict[str, int]:
    acl = posture.default
    if acl is None:
        return {}
    owner, other = acl.only(Tag.OWNER), acl.only(Tag.OTHER)
    assert owner is not None
    assert other is not None
    return {"for the owner": owner.permissions} | _of_list(acl, accounts) | {"for others": other.permissions}


def _of_list(acl: AccessList, accounts: Accounts) -> dict[str, int]:
    found = {}
    for entry in acl.entries:
        if entry.tag is Tag.NAMED_USER and entry.id is not None:
            found[f"user {naming.user_with_number(entry.id, accounts)}"] = entry.permissions
        elif entry.tag is Tag.NAMED_GROUP and entry.id is not None:
            found[f"group {naming.group_with_number(entry.id, accounts)}"] = entry.permissions
        elif entry.tag is Tag.OWNING_GROUP:
            found["for its group"] = entry.permissions
        elif entry.tag is Tag.MASK:
            found["mask"] = entry.permissions
    return found


def _class_words(value: int | None, kind: Kind) -> str:
    if value is None:
        return "no entry"
    return f"{permission_letters(value)}  {words.permissions(value, kind)}"


def _flag_words(posture: Posture) -> str:
    return "not known" if posture.flags is None else " ".join(posture.flags) or "none"


def _capability_words(posture: Posture) -> str:
    return "none" if posture.capabilities is None else " ".join(names(posture.capabilities.permitted))
