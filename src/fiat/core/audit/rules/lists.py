"""Classes, entries and letters that do not do what they seem to. Source: acl(5), inode(7)."""

from collections.abc import Iterator

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Mend, Rule, RuleFinding
from fiat.core.audit.remarked import remarked
from fiat.core.audit.rules.nobody import without_entries
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.mode import EXECUTE_BITS, SETGID, SETUID, permission_letters
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Kind, Posture
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.rules.decision import Decisions
from fiat.core.rules.effective import effective, group_permissions
from fiat.core.text import joined
from fiat.core.words import naming


def _masked(audited: AuditedTree) -> Iterator[RuleFinding]:
    yield from remarked(audited, "mask-cuts", "odd", _as_masked)


def _as_masked(posture: Posture, _: AuditedTree) -> Mend | None:
    """Each entry with what the mask leaves of it: nobody's access changes."""
    acl = posture.acl
    if acl is None or acl.mask is None:
        return None
    wishes = []
    for entry in acl.entries:
        left = effective(entry, acl.mask)
        if entry.tag in (Tag.NAMED_USER, Tag.NAMED_GROUP, Tag.OWNING_GROUP) and left != entry.permissions:
            wishes.append(EntryWish(entry._replace(permissions=left)))
    return Mend(Wish(access=ListWish(tuple(wishes), mask=acl.mask)))


def _passed_over(audited: AuditedTree) -> Iterator[RuleFinding]:
    mend = Mend(Wish(access=ListWish(drop=True)))
    # where other gets nothing, nobody gets anything by it that the list would not give
    yield from remarked(audited, "list-passed-over", "odd", lambda *_: mend, lambda posture, _: posture.mode & 7 != 0)


def _empty_groups(audited: AuditedTree) -> Iterator[RuleFinding]:
    yield from remarked(audited, "empty-group", "plain", _without_empty_groups, _is_not_the_systems)


def _is_not_the_systems(posture: Posture, audited: AuditedTree) -> bool:
    """Whether a distribution would not ship it so: root's or a service's, for a group of the system that people may
    join one day."""
    first = audited.accounts.first_person
    named = posture.acl is not None and any(entry.id is not None for entry in posture.acl.entries)
    return named or posture.uid >= first or posture.gid >= first


def _without_empty_groups(posture: Posture, audited: AuditedTree) -> Mend | None:
    accounts = audited.accounts
    gone = [
        entry
        for entry in (posture.acl.entries if posture.acl is not None else ())
        if entry.tag is Tag.NAMED_GROUP and entry.id is not None
        if accounts.group_numbered(entry.id) is not None and accounts.has_no_members(entry.id)
    ]
    if gone:
        return without_entries(posture, gone)
    if posture.acl is None:
        return Mend(Wish(mode=parse_change("g=")))
    return None


def _owners(audited: AuditedTree) -> Iterator[RuleFinding]:
    def as_others(posture: Posture, _: AuditedTree) -> Mend:
        more = (group_permissions(posture) | posture.mode & 7) & ~(posture.mode >> 6 & 7)
        clause = f"u+{permission_letters(more).replace('-', '')}"
        return Mend(Wish(mode=parse_change(clause)))

    yield from remarked(audited, "owner-has-less", "odd", as_others, lambda posture, _: posture.uid != 0)


def _groups(audited: AuditedTree) -> Iterator[RuleFinding]:
    def as_others(posture: Posture, _: AuditedTree) -> Mend | None:
        more = permission_letters(posture.mode & 7 & ~group_permissions(posture)).replace("-", "")
        # with a list, more for the group would be more for whoever is named in it
        clause = f"g+{more}" if posture.acl is None else f"o-{more}"
        return Mend(Wish(mode=parse_change(clause)))

    yield from remarked(audited, "group-has-less", "odd", as_others, _has_somebody)


def _has_somebody(posture: Posture, audited: AuditedTree) -> bool:
    """Whether anybody but the owner is in a group that the object's own permissions, or an entry, speak of."""
    gids = [
        posture.gid,
        *((one.id for one in posture.acl.entries if one.tag is Tag.NAMED_GROUP) if posture.acl else ()),
    ]
    owner = audited.accounts.user_numbered(posture.uid)
    for gid in gids:
        count = audited.accounts.member_count(gid) if gid is not None else 0
        own = owner is not None and gid is not None and gid in audited.accounts.gids_of(owner)
        if count > own:
            return True
    return False


def _idle_groups(audited: AuditedTree) -> Iterator[RuleFinding]:
    """A group that somebody chose, for it is not its owner's own, and that may do nothing."""
    for number, profile in enumerate(audited.survey.profiles):
        posture = profile.posture
        if posture.kind not in (Kind.FILE, Kind.DIRECTORY) or posture.acl is not None:
            continue
        if posture.mode & 0o070 or posture.gid == 0:
            continue
        owner = audited.accounts.user_numbered(posture.uid)
        if posture.uid == 0 or owner is None or owner.gid == posture.gid:
            continue
        if not audited.accounts.member_count(posture.gid):
            continue
        group = naming.group(posture.gid, audited.accounts)
        text = f"group {group} owns it and may do nothing with it"
        mend = Mend(Wish(gid=owner.gid))
        places = audited.with_profiles([number])
        if len(places):
            yield RuleFinding("plain", text, places, 0, mend)


_LOOKED_THROUGH = 100
"""Entries of a list of which each is tried without: of very long ones that would take long, and is no news."""


def _repeated(audited: AuditedTree) -> Iterator[RuleFinding]:
    """Named entries without which everybody had the same."""
    decisions = Decisions(audited.universe)
    seen: dict[tuple[AccessList, int, int, int], list[int]] = {}
    for number, profile in enumerate(audited.survey.profiles):
        posture = profile.posture
        if posture.acl is not None and posture.acl.mask and len(posture.acl.entries) <= _LOOKED_THROUGH:
            seen.setdefault((posture.acl, posture.mode, posture.uid, posture.gid), []).append(number)
    for numbers in seen.values():
        posture = audited.survey.profiles[numbers[0]].posture
        assert posture.acl is not None
        gone = []
        for entry in posture.acl.entries:
            if entry.id is None or not _may_repeat(entry, posture, audited):
                continue
            left = tuple(one for one in posture.acl.entries if one != entry)
            without = posture._replace(acl=AccessList(left))
            had, has = decisions.of(posture), decisions.of(without)
            if all(had.allowed(want) == has.allowed(want) for want in range(1, 8)):
                gone.append(entry)
        if gone:
            named = joined(naming.entry(entry, audited.accounts) for entry in gone[:3])
            text = f"without {named} everybody would have the same"
            places = audited.with_profiles(numbers)
            if len(places):
                yield RuleFinding("plain", text, places, 0, without_entries(posture, gone[:1]))


def _may_repeat(entry: Entry, posture: Posture, audited: AuditedTree) -> bool:
    """Whether an entry can give just what is given without it; asked first, for it is told quickly."""
    acl = posture.acl
    assert acl is not None
    own = effective(entry, acl.mask)
    if entry.tag is Tag.NAMED_GROUP:
        if entry.id == posture.gid:
            return True  # it is the owning group, which has an entry anyway
        return own == posture.mode & 7  # what a member gets whom no other entry matches
    account = None if entry.id is None or entry.id == posture.uid else audited.accounts.user_numbered(entry.id)
    if account is None:
        return entry.id == posture.uid or own == posture.mode & 7
    gids = audited.accounts.gids_of(account)
    groups = [
        effective(one, acl.mask)
        for one in acl.entries
        if (one.tag is Tag.NAMED_GROUP and one.id in gids) or (one.tag is Tag.OWNING_GROUP and posture.gid in gids)
    ]
    return own in groups if groups else own == posture.mode & 7


def _capitals(audited: AuditedTree) -> Iterator[RuleFinding]:
    mode, _, _ = audited.columns
    idle = audited.files & (mode & EXECUTE_BITS == 0)
    for bit, letter, who in ((SETUID, "u", "setuid"), (SETGID, "g", "setgid")):
        places = np.flatnonzero(idle & (mode & bit != 0))
        if len(places):
            clause = f"{letter}-s"
            text = f"capital S: {who} is set, and nobody may execute it, so that it does nothing"
            yield RuleFinding("odd", text, places, 0, Mend(Wish(mode=parse_change(clause))))


def _without_effect(audited: AuditedTree) -> Iterator[RuleFinding]:
    for code, clause in (
        ("setuid-without-effect", "u-s"),
        ("setgid-without-effect", "g-s"),
        ("sticky-without-effect", "-t"),
    ):
        mend = Mend(Wish(mode=parse_change(clause)))
        yield from remarked(audited, code, "plain", lambda *_, mend=mend: mend)
    yield from remarked(audited, "capabilities-without-effect", "plain", lambda *_: None)


RULES = (
    Rule(
        "mask-cuts",
        "an entry that the mask cuts off",
        "who reads the list takes them to have more than they have; and raising the mask hands it out",
        _masked,
    ),
    Rule(
        "list-passed-over",
        "a list that is passed over",
        "Linux passes over a list whose mask is empty: whom it was to keep out gets what other gets",
        _passed_over,
    ),
    Rule(
        "empty-group",
        "rights for a group that nobody is in",
        "who joins that group has these rights, and nobody thinks of it then",
        _empty_groups,
    ),
    Rule(
        "owner-has-less",
        "an owner who may do less than others",
        "for the owner the owner's letters alone count, and they can change them at any time",
        _owners,
    ),
    Rule(
        "group-has-less",
        "a group that may do less than anyone else",
        "a group is kept out like this only as long as nobody leaves it",
        _groups,
    ),
    Rule(
        "group-has-nothing",
        "a group that owns something and may do nothing",
        "whoever chose the group meant it to have something",
        _idle_groups,
    ),
    Rule(
        "entry-repeats",
        "an entry that repeats what its class gives",
        "when the class loses it, the entry still has it, and nobody thinks of it then",
        _repeated,
    ),
    Rule(
        "capital-letters",
        "setuid or setgid on what nobody may execute",
        "either x is missing, or the bit is left over and comes to life with the next x",
        _capitals,
    ),
    Rule(
        "without-effect",
        "a special bit or a capability that does nothing there",
        "whoever set it relies on something that does not happen",
        _without_effect,
    ),
)
