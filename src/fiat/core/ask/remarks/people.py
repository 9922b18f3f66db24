"""Remarks on who owns an object and whom its list names, and on classes that get less than others.

Source: inode(7), "The file type and mode"; acl(5), "ACCESS CHECK ALGORITHM".
"""

from collections.abc import Iterator

from fiat.core.ask.remarks.remark import Remark, Subject
from fiat.core.model.accesslist import Tag
from fiat.core.model.mode import permission_letters
from fiat.core.rules.decision import passes_over_list


def remarks(subject: Subject) -> Iterator[Remark]:
    """Numbers without names, empty groups, and classes that get less than those after them."""
    yield from _owners(subject)
    yield from _named(subject)
    yield from _less_than_others(subject)


def _owners(subject: Subject) -> Iterator[Remark]:
    posture, accounts = subject.posture, subject.accounts
    if accounts.user_numbered(posture.uid) is None:
        yield Remark(
            "owner-without-account",
            "odd",
            f"no account has the owner's number {posture.uid}: the next account made with it will own this",
        )
    if accounts.group_numbered(posture.gid) is None:
        yield Remark(
            "group-without-name",
            "odd",
            f"no group has the number {posture.gid}: the next group made with it will be the owning group",
        )
    elif posture.mode & 0o070 and not subject.members(posture.gid):
        yield Remark("empty-group", "odd", f"nobody is in the owning group {subject.group}")


def _named(subject: Subject) -> Iterator[Remark]:
    acl, accounts = subject.posture.acl, subject.accounts
    for entry in acl.entries if acl else ():
        if entry.id is None:
            continue
        if entry.tag is Tag.NAMED_USER:
            if accounts.user_numbered(entry.id) is None:
                yield Remark("entry-without-name", "odd", f"{entry.text()} names a number that no account has")
        elif accounts.group_numbered(entry.id) is None:
            yield Remark("entry-without-name", "odd", f"{entry.text()} names a number that no group has")
        elif not subject.members(entry.id):
            text = f"{subject.entry(entry)} gives nothing to anyone: nobody is in that group"
            yield Remark("empty-group", "odd", text)


def _less_than_others(subject: Subject) -> Iterator[Remark]:
    owner, group, other = subject.mode >> 6 & 7, _owning_group(subject), subject.mode & 7
    if (group | other) & ~owner:
        yield Remark(
            "owner-has-less",
            "odd",
            f"{subject.owner} owns it and gets only {permission_letters(owner)}, less than others do: "
            "for the owner the owner's letters alone count",
        )
    if other & ~group:
        yield Remark(
            "group-has-less",
            "odd",
            f"members of {subject.group} get only {permission_letters(group)}, less than anyone else "
            f"({permission_letters(other)}): who is in the group is not asked about other",
        )


def _owning_group(subject: Subject) -> int:
    """What the owning group's members get."""
    acl = subject.posture.acl
    if acl is None or passes_over_list(subject.mode):
        return subject.mode >> 3 & 7
    entry = acl.only(Tag.OWNING_GROUP)
    return acl.effective(entry) if entry else 0
