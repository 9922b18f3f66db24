"""What would have to change for a refusal to become a yes, the narrowest change first."""

import shlex
from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.ask.why import wanted
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import permission_letters
from fiat.core.model.posture import Object
from fiat.core.model.principals import Principal
from fiat.core.rules import decision as rules
from fiat.core.rules.access import Step, Verdict
from fiat.core.text import visible
from fiat.core.words import naming


class Change(NamedTuple):
    """Something that would have to change: what it means, and the command line for it (empty where Fiat has none)."""

    effect: str
    command: str = ""


def changes(principal: Principal, verdict: Verdict, accounts: Accounts) -> list[Change]:
    """What would have to change, for each step that says no, in their order."""
    refused = [step for step in (*verdict.steps, *verdict.beyond) if not step.allowed]
    found: list[Change] = []
    for step in refused:
        if step.object is None:
            break
        if step.reason:
            # what is needed of one object is given to it by one change
            want = 0
            for other in refused:
                want |= wanted(other) if other.path == step.path and other.reason else 0
            found += _of_entries(principal, step, want, accounts)
        else:
            found += _of_conditions(step, step.object, accounts)
    return list(dict.fromkeys(found))


def _of_entries(principal: Principal, step: Step, want: int, accounts: Accounts) -> Iterator[Change]:
    """Changes of mode, list or membership, where an entry refused the permissions in ``want``."""
    assert step.reason is not None
    assert step.object is not None
    posture, share = step.object.posture, step.reason.share
    missing = permission_letters(want & ~share.permissions).replace("-", "")
    path = shell_word(step.path)

    def mode(user_class: str, effect: str) -> Change:
        return Change(effect, f"fiat set {path} --mode {user_class}+{missing} --preview")

    if step.rule == rules.OWNER:
        yield mode("u", "for the owner")
        return
    if share.entry.permissions & want == want:
        yield mode("g", "raising the mask, which the group letters are, for every entry that it cuts")
        return
    entry = _entry_for(principal)
    if entry is not None:
        # their own entry decides alone from then on, so it holds what they have already as well
        letters = permission_letters(share.permissions | want)
        yield Change(
            f"for {visible(naming_of(principal))} alone",
            f"fiat set {path} --entry {shell_word(f'{entry}:{letters}')} --preview",
        )
    group = naming.group(posture.gid, accounts)
    if step.rule == rules.OWNING_GROUP:
        if posture.acl is None:
            yield mode("g", f"for everyone in group {group}")
    elif step.rule == rules.OTHER:
        if principal.kind == "user" and posture.acl is None and posture.mode >> 3 & want == want:
            yield Change(f"making {visible(naming_of(principal))} a member of group {group}, which is allowed it here")
        yield mode("o", "for everyone")


def _entry_for(principal: Principal) -> str | None:
    """The beginning of an access entry that names ``principal``; None for those that no entry can name."""
    if principal.kind == "group":
        (gid,) = principal.gids
        return f"group:{gid if principal.name is None else principal.name}"
    if principal.uid is None:
        return None
    return f"user:{principal.uid if principal.name is None else principal.name}"


def naming_of(principal: Principal) -> str:
    """The name, or the number, of a user or group."""
    if principal.name is not None:
        return principal.name
    return str(principal.uid if principal.uid is not None else next(iter(principal.gids), "anyone else"))


def _of_conditions(step: Step, found: Object, accounts: Accounts) -> Iterator[Change]:
    """Changes beyond mode and list, where something else refused."""
    owner = naming.user(found.posture.uid, accounts)
    mount = visible(found.mount.point) if found.mount else "it"
    effects = {
        "immutable": f"clearing the immutable flag of {visible(found.path)}, which root can",
        "append-only": f"clearing the append-only flag of {visible(found.path)}, which root can",
        "read-only": f"mounting {mount} again with rw",
        "noexec": f"mounting {mount} again with exec",
        "nodev": f"mounting {mount} again with dev",
        "nosymfollow": f"mounting {mount} again without nosymfollow",
        "protected-symlinks": f"the link's owner {owner} doing it, or following no link in that directory",
        "protected-regular": f"the file's owner {owner} doing it, or opening it without creating it",
        "protected-fifos": f"the pipe's owner {owner} doing it, or opening it without creating it",
        "owner-only": f"the owner {owner}, or root, doing it",
        "owner-in-other-group": f"the owner {owner}, where in another group, or root, doing it",
        "superuser-only": "root doing it",
        "clears-special": "root doing it",
    }
    if step.rule == "sticky":
        yield Change(f"the owner of what is named, the directory's owner {owner}, or root doing it")
        yield Change(
            "letting everyone who may write there do it", f"fiat set {shell_word(step.path)} --mode a-t --preview"
        )
    elif step.rule in effects:
        yield Change(effects[step.rule])


def shell_word(word: str) -> str:
    """``word`` quoted so that a shell reads it back, without a character that is not printable."""
    if word.isprintable():
        return shlex.quote(word)
    parts = (char if char.isprintable() and char not in "\\'" else _octal_escape(char) for char in word)
    return f"$'{''.join(parts)}'"


def _octal_escape(char: str) -> str:
    return "".join(f"\\{byte:03o}" for byte in char.encode("utf-8", "surrogateescape"))
