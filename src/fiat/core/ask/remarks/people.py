"""Remarks on who owns an object and whom its list names, and on classes that get less than others.

Source: inode(7), "The file type and mode"; acl(5), "ACCESS CHECK ALGORITHM".
"""

from collections.abc import Iterator

from fiat.core.ask.remarks.subject import Subject
from fiat.core.model.accesslist import Tag
from fiat.core.model.finding import Finding
from fiat.core.model.mode import permission_letters
from fiat.core.rules.effective import group_permissions
from fiat.core.text import joined


def remarks(subject: Subject) -> Iterator[Finding]:
    """Numbers without names, empty groups, and classes that get less than those after them."""
    yield from _owners(subject)
    yield from _named(subject)
    yield from _less_than_others(subject)


def _owners(subject: Subject) -> Iterator[Finding]:
    posture, accounts = subject.posture, subject.accounts
    if accounts.user_numbered(posture.uid) is None:
        yield Finding(
            "owner-without-account",
            "odd",
            f"no account has the owner's number {posture.uid}: the next account made with it will own this",
        )
    if accounts.group_numbered(posture.gid) is None:
        yield Finding(
            "group-without-name",
            "odd",
            f"no group has the number {posture.gid}: the next group made with it will be the owning group",
        )
    elif posture.mode & 0o070 and not subject.members(posture.gid):
        yield Finding("empty-group", "odd", f"nobody is in the owning group {subject.group}")


def _named(subject: Subject) -> Iterator[Finding]:
    """Entries for nobody, those of a kind together: a list may have thousands."""
    acl, accounts = subject.posture.acl, subject.accounts
    users: list[str] = []
    groups: list[str] = []
    empty: list[str] = []
    for entry in acl.entries if acl else ():
        if entry.id is None:
            continue
        if entry.tag is Tag.NAMED_USER:
            if accounts.user_numbered(entry.id) is None:
                users.append(entry.text())
        elif accounts.group_numbered(entry.id) is None:
            groups.append(entry.text())
        elif not subject.members(entry.id):
            empty.append(subject.entry(entry))
    for some, what in ((users, "account"), (groups, "group")):
        if some:
            names = f"names a number that no {what} has" if len(some) == 1 else f"name numbers that no {what} has"
            yield Finding("entry-without-name", "odd", f"{_first_of(some)} {names}")
    if empty:
        gives = "gives nothing to anyone: nobody is in that group"
        if len(empty) > 1:
            gives = "give nothing to anyone: nobody is in these groups"
        yield Finding("empty-group", "odd", f"{_first_of(empty)} {gives}")


_FIRST = 3


def _first_of(entries: list[str]) -> str:
    more = [f"{len(entries) - _FIRST:,} more"] if len(entries) > _FIRST else []
    return joined([*entries[:_FIRST], *more])


def _less_than_others(subject: Subject) -> Iterator[Finding]:
    owner, group, other = subject.mode >> 6 & 7, group_permissions(subject.posture), subject.mode & 7
    if (group | other) & ~owner:
        yield Finding(
            "owner-has-less",
            "odd",
            f"{subject.owner} owns it and gets only {permission_letters(owner)}, less than others do: "
            "for the owner the owner's letters alone count",
        )
    if other & ~group:
        yield Finding(
            "group-has-less",
            "odd",
            f"members of {subject.group} get only {permission_letters(group)}, less than anyone else "
            f"({permission_letters(other)}): who is in the group is not asked about other",
        )
