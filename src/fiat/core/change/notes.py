"""What a person should know about a change beyond before and after."""

from fiat.core.change.steps import Change, through_flags
from fiat.core.model.accesslist import Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.finding import Finding
from fiat.core.model.mode import SETGID, SPECIAL, permission_letters, special_names
from fiat.core.model.posture import Kind, Posture
from fiat.core.model.wish import Wish
from fiat.core.rules.effective import group_permissions
from fiat.core.rules.sideeffects import may_be_too_long
from fiat.core.text import joined
from fiat.core.words import naming


def of_change(
    change: Change, goal: Posture, wish: Wish, accounts: Accounts, filesystem: str | None = None
) -> tuple[Finding, ...]:
    """The notes on ``change``, which was to make ``goal`` of what it starts from, on a ``filesystem`` of this type."""
    if change.errno:
        return ()
    before, after = change.before, change.after
    found = [*_on_special_bits(before, wish), *_on_mask(before, after, wish, accounts)]
    if change.steps.uid is not None or change.steps.gid is not None:
        found += _on_clearing(before, after, wish)
    found += _on_privilege_lost(before, after, accounts)
    if goal.mode & SETGID and not after.mode & SETGID:
        group = naming.group(after.gid, accounts)
        found.append(_note("drops-setgid", f"the kernel leaves setgid out: the one who acts is not in group {group}"))
    if before.acl is not None and after.acl is None:
        left = permission_letters(group_permissions(after))
        group = naming.group(after.gid, accounts)
        found.append(
            _note("list-goes", f"the access list goes: group {group} has {left}, and nobody is named any more")
        )
    for acl in (change.steps.acl, change.steps.default):
        if acl is not None and may_be_too_long(acl, filesystem):
            text = f"a list of {len(acl.entries):,} entries may be more than {filesystem} has room for: it fails then"
            found.append(_note("may-not-fit", text))
    if wish.like is not None and wish.like.directory != before.directory and before.kind is not Kind.SYMLINK:
        text = "between a directory and a file special bits and default lists do not go over, and x is decided as X is"
        found.append(_note("other-kind", text))
    return tuple(dict.fromkeys((*found, *on_flags(change))))


def on_flags(change: Change) -> tuple[Finding, ...]:
    """What is to be known of a change that goes through flags."""
    before, after = change.before, change.after
    if change.errno or not through_flags(before, after, change.between):
        return ()
    kept = [flag for flag in before.flags or () if flag in (after.flags or ())]
    return (_note("through-flags", f"{joined(kept)} is cleared for the change, and set again at its end"),)


def _note(code: str, text: str) -> Finding:
    return Finding(code, "plain", text)


def _on_mask(before: Posture, after: Posture, wish: Wish, accounts: Accounts) -> list[Finding]:
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
    return [_note("sets-mask", f"{text}; group {group}'s own entry stays {letters}: {change_it}")]


def _on_special_bits(before: Posture, wish: Wish) -> list[Finding]:
    asked = wish.mode_for(before)
    if asked is None or asked.octal is None or asked.digits > 3 or not before.mode & SPECIAL:
        return []
    if before.kind is Kind.SYMLINK:
        return []
    names = " and ".join(special_names(before.mode))
    if before.directory:
        clearing = f"0{asked.octal:03o}"
        text = f"{names} stays: {asked.text} sets only rwx on a directory; {clearing} would clear it"
        return [_note("keeps-special", text)]
    keeping = f"{asked.octal | before.mode & SPECIAL:04o}"
    return [_note("loses-special", f"{names} goes: {asked.text} sets all the bits of a file; {keeping} would keep it")]


def _on_clearing(before: Posture, after: Posture, wish: Wish) -> list[Finding]:
    """What the kernel cleared as the owner changed, and what would bring it back."""
    lost = list(special_names(before.mode & ~after.mode & 0o6000))
    if lost and wish.mode_for(before) is None and wish.like is None:
        letters = ",".join({"setuid": "u+s", "setgid": "g+s"}[name] for name in lost)
        text = f"the kernel clears {joined(lost)} as the owner changes; --mode {letters} sets it again"
        return [_note("clears-special", text)]
    return []


def _on_privilege_lost(before: Posture, after: Posture, accounts: Accounts) -> list[Finding]:
    """Whoever runs a program without setuid or setgid no longer acts as somebody else."""
    lost = before.mode & ~after.mode & 0o6000
    if before.kind is not Kind.FILE or not lost:
        return []
    acted = {
        "setuid": f"as user {naming.user(before.uid, accounts)}",
        "setgid": f"in group {naming.group(before.gid, accounts)}",
    }
    gone = [acted[name] for name in special_names(lost)]
    return [_note("privilege-goes", f"whoever runs it no longer acts {joined(gone)}, but as themselves")]
