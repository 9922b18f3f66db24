"""One object on a sheet: heading, entries, facts, remarks."""

import time

from fiat.core.ask.remarks import Remark
from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList, Entry, Tag, from_mode
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import letters, octal, permission_letters
from fiat.core.model.posture import Kind, Mount, Object, Posture
from fiat.core.rules.decision import passes_over_list
from fiat.core.text import visible
from fiat.core.words import naming
from fiat.render import terminal, words
from fiat.render.columns import Columns

_MOUNT_WORDS = {
    "ro": "read-only",
    "noexec": "nothing can be run",
    "nosuid": "setuid, setgid and file capabilities do nothing",
    "nodev": "devices cannot be opened",
    "nosymfollow": "symlinks cannot be followed",
    "idmapped": "numbers on disk mean other users here",
}
"""The mount options that change access, with what they do."""


def print_sheet(object_: Object, accounts: Accounts, remarks: list[Remark]) -> None:
    """All that one object says about access."""
    print(terminal.paint(visible(object_.path), "strong"))
    terminal.say(_headline(object_), terminal.INDENT)
    print()
    if object_.posture.kind is not Kind.SYMLINK:
        _print_entries(object_.posture, accounts)
        print()
    for label, value in _facts(object_, accounts):
        terminal.say(f"{label:<14}{value}", terminal.INDENT, hanging=" " * 14)
    if remarks:
        print()
    for remark in remarks:
        mark = {"danger": "!!", "odd": "! "}.get(remark.weight, "- ")
        terminal.say(f"{mark} {remark.text}", terminal.INDENT, hanging="   ", mark=mark)


def _headline(object_: Object) -> str:
    posture, status = object_.posture, object_.status
    parts = [words.KIND[posture.kind]]
    if posture.kind is Kind.FILE:
        parts.append(words.counted(status.size, "byte"))
    if posture.kind is not Kind.DIRECTORY:
        parts.append(words.counted(status.links, "name"))
    if status.changed is not None:
        when = time.strftime("%Y-%m-%d %H:%M", time.localtime(status.changed // 10**9))
        parts.append(f"status changed {when}")
    return f"{octal(posture.mode)}  {letters(posture.mode)}  {', '.join(parts)}"


# --- entries -----------------------------------------------------------------


def _print_entries(posture: Posture, accounts: Accounts) -> None:
    """Every entry, or the mode's three classes, with what the mask leaves and what that means."""
    acl = posture.acl or from_mode(posture.mode)
    header = ["entry", "", "letters", "after mask", "which lets them"]
    rows = [_entry_row(entry, acl, posture, accounts) for entry in acl.entries]
    if acl.mask is None:
        for row in (header, *rows):
            del row[3]
    columns = Columns(header)
    for row in rows:
        columns.add(row)
    columns.flush()


def _entry_row(entry: Entry, acl: AccessList, posture: Posture, accounts: Accounts) -> list[str]:
    kind, name = _who(entry, posture, accounts)
    given = permission_letters(entry.permissions)
    if entry.tag is Tag.MASK:
        return [kind, name, given, "", "at most this, for all but owner and other"]
    left = acl.effective(entry)
    kept = terminal.paint(permission_letters(left), "faint" if left == entry.permissions else "no")
    meaning = words.permissions(left, posture.kind)
    if entry.id is not None and passes_over_list(posture.mode):
        meaning = "the same as other: the list is passed over"
    return [kind, name, given, kept, meaning]


def _who(entry: Entry, posture: Posture, accounts: Accounts) -> tuple[str, str]:
    """The kind of entry and whom it speaks of."""
    if entry.tag is Tag.OWNER:
        return "owner", words.user_name(posture.uid, accounts)
    if entry.tag is Tag.NAMED_USER and entry.id is not None:
        return "user", words.user_name(entry.id, accounts)
    if entry.tag in (Tag.OWNING_GROUP, Tag.NAMED_GROUP):
        return "group", words.group_name(posture.gid if entry.id is None else entry.id, accounts)
    return ("mask" if entry.tag is Tag.MASK else "other"), ""


# --- facts -------------------------------------------------------------------


def _facts(object_: Object, accounts: Accounts) -> list[tuple[str, str]]:
    posture = object_.posture
    facts = []
    if posture.kind is Kind.SYMLINK:
        facts.append(("leads to", visible(object_.target or "")))
        facts.append(("owner", words.user_name(posture.uid, accounts)))
    else:
        groups = [posture.gid, *(sorted(posture.acl.named()[1] - {posture.gid}) if posture.acl else ())]
        facts += [("members" if place == 0 else "", _members(gid, accounts)) for place, gid in enumerate(groups)]
        facts += _list_facts(object_, accounts)
    if posture.flags:
        facts.append(("flags", ", ".join(posture.flags)))
    if posture.capabilities is not None:
        facts.append(("capabilities", _capabilities(posture.capabilities)))
    if object_.mount is not None:
        facts.append(("mount", _mount(object_.mount)))
    if object_.label is not None:
        facts.append(("security label", f" {visible(object_.label)}"))
    return facts


def _members(gid: int, accounts: Accounts) -> str:
    name = words.group_name(gid, accounts)
    primary = [visible(user.name) for user in accounts.primary_members(gid)]
    listed = [visible(user.name) for user in accounts.listed_members(gid) if user.gid != gid]
    if not primary and not listed:
        return f"nobody is in {name}"
    parts = [f"{words.several(found)} ({how})" for found, how in ((primary, "primary"), (listed, "listed")) if found]
    return f"{words.counted(len(primary) + len(listed), 'user')} in {name}: {'; '.join(parts)}"


def _list_facts(object_: Object, accounts: Accounts) -> list[tuple[str, str]]:
    posture = object_.posture
    facts = []
    if posture.acl is None and object_.keeps_lists is not None:
        if object_.keeps_lists:
            facts.append(("access list", "none; this file system keeps them (asked for one, the kernel knew of none)"))
        else:
            facts.append(("access list", "none; this file system keeps none (the kernel: operation not supported)"))
    if posture.default is not None:
        texts = ", ".join(naming.entry(entry, accounts) for entry in posture.default.entries)
        facts.append(("default list", texts))
    return facts


def _capabilities(found: capabilities.FileCapabilities) -> str:
    sets = (("permitted", found.permitted), ("inheritable", found.inheritable))
    parts = [f"{name} {', '.join(capabilities.names(mask))}" for name, mask in sets if mask]
    parts.append("effective from the start" if found.effective else "effective once the program asks")
    if found.rootid is not None:
        parts.append(f"for the user namespace whose root is {found.rootid}")
    return f"{'; '.join(parts)} (version {found.version})"


def _mount(mount: Mount) -> str:
    options = (*mount.options, *(("ro",) if mount.read_only else ()))
    counting = [f"{option}: {meaning}" for option, meaning in _MOUNT_WORDS.items() if option in options]
    told = "; ".join(counting) or "its options change nothing about access"
    return f"{visible(mount.point)}, {visible(mount.type)}; {told}"
