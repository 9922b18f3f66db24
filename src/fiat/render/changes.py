"""How changes look: before and after side by side, equal changes in one row."""

import textwrap
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import names
from fiat.core.model.mode import letters, octal, permission_letters
from fiat.core.model.posture import Kind, Posture
from fiat.core.text import visible
from fiat.render import terminal, words

_MOST = 12
"""Kinds of change that are shown before the rest is only counted."""


class Changed(NamedTuple):
    """So many objects that change from ``before`` to ``after``, one of them at ``example``."""

    before: Posture
    after: Posture
    example: str
    paths: int


def print_changes(changes: Iterable[Changed], accounts: Accounts) -> None:
    """Each kind of change under the paths it is for, the most frequent first; what is the same everywhere stays out."""
    kinds = _kinds(changes, accounts)
    shown = kinds[:_MOST]
    rows = [difference for (_, differences), _ in shown for difference in differences]
    if not rows:
        return
    room = _room(max(len(what) for what, _, _ in rows))
    wrapped = [(what, _wrapped(before, room), _wrapped(after, room)) for what, before, after in rows]
    heights = iter([max(before.count("\n"), after.count("\n")) + 1 for _, before, after in wrapped])
    painted = [[what, before, _painted(after)] for what, before, after in wrapped]
    lines = iter(terminal.table(["", "before", "after"], painted, indent=terminal.INDENT * 2).split("\n"))
    print(next(lines))
    for (kind, differences), (count, example) in shown:
        print(terminal.INDENT + _where(kind, count, example))
        for _ in differences:
            for _ in range(next(heights)):
                print(next(lines))
    left = kinds[_MOST:]
    if left:
        paths = sum(count for _, (count, _) in left)
        kinds_left = words.counted(len(left), "more kind")
        print(f"{terminal.INDENT}and {kinds_left} of change, of {words.counted(paths, 'path')}")


def _room(first: int) -> int | None:
    """Cells for before, and for after, beside a first column of so many; None where there is no terminal."""
    columns = terminal.width()
    return None if columns is None else max((columns - first - 2 * len(terminal.INDENT) - 6) // 2, 16)


def _wrapped(text: str, room: int | None) -> str:
    return text if room is None else "\n".join(textwrap.wrap(text, room, subsequent_indent="     "))


def _painted(text: str) -> str:
    return "\n".join(terminal.paint(line, "changed") for line in text.split("\n"))


_Difference = tuple[str, str, str]


def _kinds(
    changes: Iterable[Changed], accounts: Accounts
) -> list[tuple[tuple[Kind, tuple[_Difference, ...]], tuple[int, str]]]:
    """Changes of the same things on objects of the same kind, with how many there are and an example."""
    alike: dict[tuple[object, ...], list[Changed]] = {}
    for change in changes:
        alike.setdefault(_what_differs(change.before, change.after), []).append(change)
    found: dict[tuple[Kind, tuple[_Difference, ...]], tuple[int, str]] = {}
    for some in alike.values():
        first = some[0]
        key = first.before.kind, tuple(differences(first.before, first.after, accounts))
        count, example = found.get(key, (0, first.example))
        found[key] = count + sum(change.paths for change in some), example
    return sorted(found.items(), key=lambda item: (-item[1][0], item[1][1]))


def _what_differs(before: Posture, after: Posture) -> tuple[object, ...]:
    """What two changes have in common that are told in the same words; cheaper than the words."""
    listed = before.acl or after.acl or before.default or after.default or before.capabilities or after.capabilities
    return (
        before.kind.name,
        before.mode,
        after.mode,
        (before.uid, after.uid) if before.uid != after.uid else None,
        (before.gid, after.gid) if before.gid != after.gid else None,
        (before[4:], after[4:]) if listed else None,
    )


def _where(kind: Kind, count: int, example: str) -> str:
    shown = visible(example)
    if count == 1:
        return shown
    plural = {Kind.DIRECTORY: "directories"}.get(kind, words.KIND[kind] + "s").replace("regular ", "")
    return f"{count:,} {plural}, such as {shown}"


def differences(before: Posture, after: Posture, accounts: Accounts) -> Iterator[_Difference]:
    """What differs: its name, and what it was and what it is, in codes and words."""
    kind = before.kind
    if before.uid != after.uid:
        yield "owner", words.user_name(before.uid, accounts), words.user_name(after.uid, accounts)
    if before.gid != after.gid:
        yield "group", words.group_name(before.gid, accounts), words.group_name(after.gid, accounts)
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
            found[f"user {words.user_name(entry.id, accounts)}"] = entry.permissions
        elif entry.tag is Tag.NAMED_GROUP and entry.id is not None:
            found[f"group {words.group_name(entry.id, accounts)}"] = entry.permissions
        elif entry.tag is Tag.OWNING_GROUP:
            found["for its group"] = entry.permissions
        elif entry.tag is Tag.MASK:
            found["mask"] = entry.permissions
    return found


def _class_words(value: int | None, kind: Kind) -> str:
    if value is None:
        return "no entry"
    return f"{permission_letters(value)}  {words.permissions(value, kind)}"


def _capability_words(posture: Posture) -> str:
    return "none" if posture.capabilities is None else " ".join(names(posture.capabilities.permitted))
