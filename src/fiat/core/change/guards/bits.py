"""Guards that look at the bits and entries of a change: privilege, what the kernel clears, what a mask lets through."""

from collections.abc import Iterator

from fiat.core.change.guards.acting import WHO
from fiat.core.change.steps import Change
from fiat.core.model.accesslist import AccessList, Tag, from_mode
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import names
from fiat.core.model.mode import EXECUTE_BITS, SETGID, SETUID, permission_letters, special_names
from fiat.core.model.posture import Kind, Posture
from fiat.core.rules.effective import effective
from fiat.core.rules.privilege import is_privileged, others_could_write, set_id_by_mode
from fiat.core.text import joined
from fiat.core.words import naming

Asked = frozenset[tuple[Tag, int | None]]
"""Entries, by what they are for."""


def objections(change: Change, accounts: Accounts, asked: Asked = frozenset()) -> Iterator[tuple[str, str, str]]:
    """The guards that object to ``change`` wherever it happens: name, what would happen, and whom it is about."""
    before, after = change.before, change.after
    if before.kind is Kind.SYMLINK:
        return
    yield from _privilege(before, after, accounts)
    for code, text in (
        *_clears(change),
        *_unmasks(before.acl, after.acl or from_mode(after.mode), accounts, asked, ""),
        *(_unmasks(before.default, after.default, accounts, asked, _MADE_HERE) if after.default is not None else ()),
    ):
        yield code, text, ""


_MADE_HERE = "in what is made here "


def _privilege(before: Posture, after: Posture, accounts: Accounts) -> Iterator[tuple[str, str, str]]:
    """Setuid or setgid that is new, another's, or open to more people than before; or what has any, and others may
    write to it from now on."""
    if after.kind is not Kind.FILE:
        return
    if is_privileged(after) and others_could_write(after, after.uid) and not others_could_write(before, before.uid):
        keeps = "what is written by way of a mapping leaves setuid, setgid and capabilities on"
        yield "privilege", f"others could change what it does, and {keeps}", ""
    wider = after.mode & EXECUTE_BITS & ~before.mode
    had, has = set_id_by_mode(before.mode), set_id_by_mode(after.mode)
    if has & SETUID and (not before.mode & SETUID or before.uid != after.uid or wider):
        yield "privilege", f"whoever runs it would act as user {WHO} (setuid)", naming.user(after.uid, accounts)
    gained = after.capabilities
    if gained is not None and gained != before.capabilities and after.mode & EXECUTE_BITS:
        yield "privilege", f"whoever runs it would have capabilities: {' '.join(names(gained.permitted))}", ""
    if has & SETGID and (not had & SETGID or before.gid != after.gid or wider):
        yield "privilege", f"whoever runs it would act in group {WHO} (setgid)", naming.group(after.gid, accounts)


def _clears(change: Change) -> Iterator[tuple[str, str]]:
    if change.steps.uid is None and change.steps.gid is None:
        return
    before, after = change.before, change.after
    lost = list(special_names(before.mode & ~after.mode & 0o6000))
    if before.capabilities is not None and after.capabilities is None:
        lost.append("its file capabilities")
    if lost:
        yield "clears-special", f"the kernel drops {joined(lost)} as the owner or group changes"


def _unmasks(
    before: AccessList | None, after: AccessList, accounts: Accounts, asked: Asked, where: str
) -> Iterator[tuple[str, str]]:
    """Entries that were there before, and get more only because the mask is raised."""
    if before is None:
        return
    found = []
    for entry in before.entries:
        more = effective(entry, after.mask) & ~effective(entry, before.mask) if entry in after.entries else 0
        if more and (entry.tag, entry.id) not in asked:
            letters = permission_letters(more).replace("-", "")
            found.append(f"{naming.entry(entry, accounts)} gets {letters}")
    if found:
        mask = before.mask
        keep = f"; --{'default-' if where else ''}mask={permission_letters(mask)} keeps it" if mask is not None else ""
        yield "unmasks", f"raising the mask hands out {where}what it was cutting off: {joined(found)}{keep}"
