"""Numbers that no account has. Source: chown(2), acl(5): a number is all that a file system keeps."""

from collections.abc import Iterator

from fiat.core.audit.auditedtree import AuditedTree, Mend, Rule, RuleFinding
from fiat.core.audit.remarked import remarked, remarked_together
from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.posture import Posture
from fiat.core.model.wish import ListWish, Wish


def _owners(audited: AuditedTree) -> Iterator[RuleFinding]:
    mend = Mend(Wish(uid=0), chosen=("--with", "no-owner"))
    many = "no account has the number of its owner, one of {}"
    yield from remarked_together(audited, "owner-without-account", "odd", mend, many)


def _groups(audited: AuditedTree) -> Iterator[RuleFinding]:
    mend = Mend(Wish(gid=0), chosen=("--with", "no-group"))
    many = "no group has the number of its group, one of {}"
    yield from remarked_together(audited, "group-without-name", "odd", mend, many)


def _entries(audited: AuditedTree) -> Iterator[RuleFinding]:
    yield from remarked(audited, "entry-without-name", "odd", _drop_nameless)


def _drop_nameless(posture: Posture, audited: AuditedTree) -> Mend | None:
    accounts = audited.accounts
    gone = []
    for entry in posture.acl.entries if posture.acl is not None else ():
        if entry.id is None:
            continue
        nobody = accounts.has_no_user if entry.tag is Tag.NAMED_USER else accounts.has_no_group
        if nobody(entry.id):
            gone.append(entry)
    return without_entries(posture, gone)


def without_entries(posture: Posture, gone: list[Entry]) -> Mend | None:
    """A list without some of its entries, and with its mask as it is."""
    if not gone or posture.acl is None:
        return None
    return Mend(Wish(access=ListWish(remove=tuple(gone), mask=posture.acl.mask)))


RULES = (
    Rule(
        "owner-without-account",
        "something that no account owns",
        "the next account that is made with this number owns it",
        _owners,
    ),
    Rule(
        "group-without-name",
        "something of a group that there is not",
        "the next group that is made with this number is its group",
        _groups,
    ),
    Rule(
        "entry-without-name",
        "an entry for a number that nobody has",
        "the next account that is made with this number has these rights",
        _entries,
    ),
)
