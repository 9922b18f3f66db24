"""What a person should know about a change beyond before and after."""

from typing import NamedTuple

from fiat.core.change.wish import Wish
from fiat.core.model.accesslist import Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import SETGID, SPECIAL, permission_letters, special_names
from fiat.core.model.posture import Kind, Posture
from fiat.core.rules.changing import Change
from fiat.core.words import naming


class Note(NamedTuple):
    """Something about a change. ``code`` is stable and one word; ``text`` says it."""

    code: str
    text: str


def of_change(change: Change, goal: Posture, wish: Wish, accounts: Accounts) -> tuple[Note, ...]:
    """The notes on ``change``, which was to make ``goal`` of what it starts from."""
    found: list[Note] = []
    if change.errno:
        return ()
    before, after = change.before, change.after
    found += _on_special_bits(before, wish)
    found += _on_mask(before, after, wish, accounts)
    if change.steps.uid is not None or change.steps.gid is not None:
        found += _on_clearing(before, after, wish)
    if goal.mode & SETGID and not after.mode & SETGID:
        group = naming.group(after.gid, accounts)
        found.append(Note("drops-setgid", f"the kernel leaves setgid out: the one who acts is not in group {group}"))
    if before.acl is not None and after.acl is None:
        left = permission_letters(after.mode >> 3 & 7)
        group = naming.group(after.gid, accounts)
        found.append(Note("list-goes", f"the access list goes: group {group} has {left}, and nobody is named any more"))
    if wish.like is not None and wish.like.directory != before.directory and before.kind is not Kind.SYMLINK:
        text = "between a directory and a file special bits and default lists do not go over, and x is decided as X is"
        found.append(Note("other-kind", text))
    return tuple(dict.fromkeys(found))


def _on_mask(before: Posture, after: Posture, wish: Wish, accounts: Accounts) -> list[Note]:
    """A mode given for a path with a list changes the mask, not the owning group's entry."""
    asked = wish.mode_for(before)
    if asked is None or before.acl is None or after.acl is None or after.acl.mask is None:
        return []
    if wish.access.changes or before.acl.mask == after.acl.mask:
        return []
    own = after.acl.only(Tag.OWNING_GROUP)
    assert own is not None
    group, letters = naming.group(after.gid, accounts), permission_letters(own.permissions)
    text = f"the group part of the mode sets the mask, now {permission_letters(after.acl.mask)}"
    change_it = "--entry group::PERMISSIONS changes that"
    return [Note("sets-mask", f"{text}; group {group}'s own entry stays {letters}: {change_it}")]


def _on_special_bits(before: Posture, wish: Wish) -> list[Note]:
    asked = wish.mode_for(before)
    if asked is None or asked.octal is None or asked.digits > 3 or not before.mode & SPECIAL:
        return []
    if before.kind is Kind.SYMLINK:
        return []
    names = " and ".join(special_names(before.mode))
    if before.directory:
        clearing = f"0{asked.octal:03o}"
        text = f"{names} stays: {asked.text} sets only rwx on a directory; {clearing} would clear it"
        return [Note("keeps-special", text)]
    keeping = f"{asked.octal | before.mode & SPECIAL:04o}"
    return [Note("loses-special", f"{names} goes: {asked.text} sets all the bits of a file; {keeping} would keep it")]


def _on_clearing(before: Posture, after: Posture, wish: Wish) -> list[Note]:
    """What the kernel cleared as the owner changed, and what would bring it back."""
    lost = list(special_names(before.mode & ~after.mode & 0o6000))
    if lost and wish.mode_for(before) is None and wish.like is None:
        letters = ",".join({"setuid": "u+s", "setgid": "g+s"}[name] for name in lost)
        text = f"the kernel clears {naming.joined(lost)} as the owner changes; --mode {letters} sets it again"
        return [Note("clears-special", text)]
    return []
