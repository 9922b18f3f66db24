"""Remarks on access lists and default lists.

Source: acl(5), "CORRESPONDENCE BETWEEN ACL ENTRIES AND FILE PERMISSION BITS"
and "OBJECT CREATION AND DEFAULT ACLs"; the kernel's ``acl_permission_check`` for the
list that is passed over.
"""

from collections.abc import Iterator

from fiat.core.ask.remarks.subject import Subject
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.finding import Finding
from fiat.core.model.kind import Kind
from fiat.core.model.mode import EXECUTE_BITS, READ, WRITE, letters, permission_letters
from fiat.core.rules.effective import effective, passes_over_list
from fiat.core.rules.inheritance import inherited_modes
from fiat.core.text import joined


def remarks(subject: Subject) -> Iterator[Finding]:
    """What the mask cuts off and shows, lists passed over, what is inherited."""
    acl = subject.posture.acl
    if acl is not None and acl.mask is not None:
        if passes_over_list(subject.mode):
            yield from _passed_over(subject, acl)
        else:
            yield from _masked(subject, acl, acl.mask)
    if subject.posture.default is not None:
        yield _inherits(subject.posture.default, subject.mode)
    if subject.object.keeps_lists is False:
        text = "this file system keeps no access lists: asked for one, the kernel says that it is not supported"
        yield Finding("no-lists", "plain", text)


def _passed_over(subject: Subject, acl: AccessList) -> Iterator[Finding]:
    named = [subject.entry(entry) for entry in acl.entries if entry.id is not None]
    if named:
        verb = "decides" if len(named) == 1 else "decide"
        yield Finding(
            "list-passed-over",
            "odd",
            f"the mask is ---, and Linux then passes over the whole list: {joined(named)} {verb} nothing; "
            f"whoever is not in {subject.group} gets what other gets ({permission_letters(subject.mode & 7)})",
        )


def _masked(subject: Subject, acl: AccessList, mask: int) -> Iterator[Finding]:
    # a file that is made with a default list has a mask without x, for nobody asked for it: that is no news
    program = subject.kind is not Kind.FILE or subject.mode & EXECUTE_BITS
    cut = [
        f"{subject.entry(entry)} down to {permission_letters(effective(entry, mask))}"
        for entry in acl.entries
        if entry.permissions & ~effective(entry, mask) & (7 if program else READ | WRITE)
    ]
    if cut:
        yield Finding("mask-cuts", "odd", f"the mask {permission_letters(mask)} cuts {joined(cut)}")
    group = acl.only(Tag.OWNING_GROUP)
    own = ""
    if group is not None and group.permissions != mask:
        own = f"; the owning group's own entry has {permission_letters(group.permissions)}"
    shown = letters(subject.mode)[3:6]
    yield Finding("letters-show-mask", "plain", f"with a list, the middle letters {shown} show the mask{own}")


def _inherits(default: AccessList, mode: int) -> Finding:
    file, directory = inherited_modes(default, mode)
    return Finding(
        "inherits",
        "plain",
        "what is made here takes over the default list, and no umask counts: "
        f"files (asked for with 666) get {permissions(file)}, "
        f"directories (with 777) {permissions(directory)} and the same default list",
    )


def permissions(mode: int) -> str:
    """``0640 rw-r-----``."""
    return f"{mode:04o} {letters(mode)}"
