"""What a verdict means in words, and what would have to change."""

import shlex
from typing import NamedTuple

from fiat.core import naming, rules
from fiat.core.access import Step, Verdict
from fiat.core.accesslist import Tag
from fiat.core.accounts import Accounts
from fiat.core.mode import EXECUTE, READ, WRITE, permission_letters
from fiat.core.principals import Principal
from fiat.core.visible import visible

RULE_WORDS = {
    "symlink": "followed",
    "protected-symlinks": "fs.protected_symlinks: in a sticky directory open to all, only a link's owner may follow it",
    "nosymfollow": "the mount has nosymfollow",
    "nodev": "the mount has nodev",
    "noexec": "the mount has noexec",
    "read-only": "read-only mount",
    "immutable": "the immutable flag",
    "append-only": "the append-only flag: it can only be added to",
    "missing": "there is nothing of this name",
    "not-a-directory": "this is no directory",
    "not-a-program": "only a regular file can be run",
    "too-many-links": "more than 40 symlinks in a row",
    "interpreter-missing": "the script's interpreter cannot be found",
}
"""What decided, where no entry did."""


def explain(principal: Principal, verdict: Verdict, accounts: Accounts) -> list[str]:
    """The reason in sentences, the trap included where there is one."""
    step = verdict.deciding
    at = visible(step.path)
    if verdict.allowed:
        return [f"Decided at {at}, by {_rule(step)}."]
    if step.reason is None:
        return [f"Stopped at {at}: {_rule(step)}."]
    lines = [f"Stopped at {at}: it needs {step.needs} there, and {_rule(step)} says no."]
    if step.script and step.needs == "read":
        lines.append("The right to execute is there, but this is a script: its interpreter has to read it too.")
    return lines + _trap(principal, step, accounts)


def _rule(step: Step) -> str:
    if step.reason is None:
        return RULE_WORDS.get(step.rule, step.rule)
    return {
        rules.OWNER: "the owner's entry",
        rules.NAMED_USER: "the entry for this very user",
        rules.OWNING_GROUP: "the owning group's entry",
        rules.NAMED_GROUP: "the entry for a group",
        rules.OTHER: "the entry for other",
        rules.SUPERUSER: "the superuser's power",
    }[step.rule]


def _trap(principal: Principal, step: Step, accounts: Accounts) -> list[str]:
    """What is easily misread about the refusing step."""
    assert step.reason is not None
    assert step.object is not None
    share, posture = step.reason.share, step.object.posture
    lines = []
    want = _wanted(step)
    if share.permissions & want != want and share.entry.permissions & want == want:
        mask = posture.acl.mask if posture.acl else 0
        lines.append(f"The entry itself would allow it: the mask {permission_letters(mask or 0)} cuts it off.")
    if step.rule == rules.OWNER and (posture.mode >> 3 | posture.mode) & want:
        lines.append("Others get more: but for the owner the owner's letters alone count.")
    if step.rule in (rules.OWNING_GROUP, rules.NAMED_GROUP) and posture.mode & 7 & want == want:
        lines.append("Other would be allowed it: but who is in a group that matches is not asked about other.")
    if posture.acl is not None and rules.passes_over_list(posture.mode) and _is_named(principal, step):
        lines.append("The access list names them, but its mask is ---: Linux then passes over the list altogether.")
    elif step.rule == rules.OTHER and posture.acl is not None:
        named = [
            naming.group(entry.id, accounts)
            for entry in posture.acl.entries
            if entry.tag is Tag.NAMED_GROUP and entry.id is not None and entry.permissions & want == want
        ]
        if named:
            lines.append(f"The list would allow it to members of {naming.joined(named)}, which this is not.")
    return lines


def _is_named(principal: Principal, step: Step) -> bool:
    acl = step.object.posture.acl if step.object else None
    if acl is None:
        return False
    uids, gids = acl.named()
    return principal.uid in uids or bool(gids & principal.gids)


def _wanted(step: Step) -> int:
    if step.needs == "write" and step.object is not None and step.object.posture.directory:
        return WRITE | EXECUTE
    return {"read": READ, "write": WRITE}.get(step.needs, EXECUTE)


class Change(NamedTuple):
    """Something that would have to change: what it means, and the command line for it (empty where Fiat has none)."""

    effect: str
    command: str = ""


def changes(principal: Principal, verdict: Verdict, accounts: Accounts) -> list[Change]:
    """What would have to change, for each step that says no: the narrowest change first."""
    found: list[Change] = []
    for step in (*verdict.steps, *verdict.beyond):
        if step.allowed:
            continue
        if step.reason is None or step.object is None:
            return found
        found += _changes_at(principal, step, accounts)
    return list(dict.fromkeys(found))


def _changes_at(principal: Principal, step: Step, accounts: Accounts) -> list[Change]:
    assert step.reason is not None
    assert step.object is not None
    posture, share, want = step.object.posture, step.reason.share, _wanted(step)
    missing = permission_letters(want & ~share.permissions).replace("-", "")

    def change(user_class: str, effect: str) -> Change:
        return Change(effect, f"fiat set {shell_word(step.path)} --mode {user_class}+{missing} --preview")

    if step.rule == rules.OWNER:
        return [change("u", "for the owner")]
    if share.entry.permissions & want == want:
        return [change("g", "raising the mask, which the group letters are, for every entry that it cuts")]
    group = naming.group(posture.gid, accounts)
    if step.rule == rules.OWNING_GROUP and posture.acl is None:
        return [change("g", f"for everyone in group {group}")]
    if step.rule != rules.OTHER:
        return []
    everyone = change("o", "for everyone")
    joins = principal.kind == "user" and principal.name is not None and posture.acl is None
    if joins and posture.mode >> 3 & want == want:
        name = visible(principal.name or "")
        return [Change(f"making {name} a member of group {group}, which is allowed it here"), everyone]
    return [everyone]


def shell_word(path: str) -> str:
    """``path`` quoted so that a shell reads it back, without a character that is not printable."""
    if path.isprintable():
        return shlex.quote(path)
    parts = (char if char.isprintable() and char not in "\\'" else _octal_escape(char) for char in path)
    return f"$'{''.join(parts)}'"


def _octal_escape(char: str) -> str:
    return "".join(f"\\{byte:03o}" for byte in char.encode("utf-8", "surrogateescape"))
