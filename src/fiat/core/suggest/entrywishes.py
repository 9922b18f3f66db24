"""Wishes for the entries of one object: what makes somebody's entry give what it shall, every other one staying what it
gives; and what lies between two postures.

Source: acl(5), "ACCESS CHECK ALGORITHM", on the mask and on lists that are passed over.
"""

from collections.abc import Iterable, Mapping
from types import MappingProxyType

from fiat.core.model.accesslist import MASKED, NAMED, AccessList, Entry, Tag
from fiat.core.model.mode import EXECUTE, READ, WRITE
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.rules.decision import Decision
from fiat.core.rules.effective import effective, passes_over_list


def wish_between(before: Posture, after: Posture, wishes: Iterable[Wish] = ()) -> Wish:
    """The wish that makes ``after`` of ``before``, as ``wishes`` did one after the other, with the entries that these
    ask for, or that are other ones, named as asked for."""
    some = list(wishes)
    access = {(one.entry.tag, one.entry.id) for wish in some for one in wish.access.entries}
    default = {(one.entry.tag, one.entry.id) for wish in some for one in wish.default.entries}
    return Wish(
        like=after,
        access=_naming(before.acl, after.acl, access),
        default=_naming(before.default, after.default, default),
    )


def _naming(before: AccessList | None, after: AccessList | None, asked: set[tuple[Tag, int | None]]) -> ListWish:
    if after is None or after == before:
        return ListWish()
    known = before.entries if before is not None else ()
    named = (
        entry
        for entry in after.entries
        if entry.tag is not Tag.MASK and (entry not in known or (entry.tag, entry.id) in asked)
    )
    return ListWish(tuple(EntryWish(entry) for entry in named), (), after.mask)


Keeping = Mapping[int, int]
"""What users whom a list names have, by their numbers, where an entry of their own is to keep it so."""

NOTHING_KEPT: Keeping = MappingProxyType({})


def entry_for(posture: Posture, who: Principal, want: int) -> ListWish:
    """What gives ``who``, a user or a bare group, the permissions ``want`` and keeps what they have."""
    return entry_holding(posture, who, had(posture, who) | want)


def entry_holding(posture: Posture, who: Principal, new: int, keeping: Keeping = NOTHING_KEPT) -> ListWish:
    """What makes ``new`` all that ``who``, a user or a bare group, has; every other entry stays what it gives."""
    if who.kind != "group":
        assert who.uid is not None
        return raised(posture, Tag.NAMED_USER, who.uid, new)
    (gid,) = who.gids
    if gid == posture.gid:
        return raised(posture, Tag.OWNING_GROUP, None, new, keeping)
    return raised(posture, Tag.NAMED_GROUP, gid, new, keeping)


def had(posture: Posture, who: Principal) -> int:
    """The permissions that the classes give ``who``, each one alone.

    Write to a directory counts only where it can be used: with traverse, in
    one entry.
    """
    decision = Decision(posture, Universe([who._replace(capabilities=0)]))
    found = 0
    for bit in (READ, WRITE, EXECUTE):
        if decision.allowed(bit | EXECUTE if bit == WRITE and posture.directory else bit):
            found |= bit
    return found


def raised(posture: Posture, tag: Tag, number: int | None, new: int, keeping: Keeping = NOTHING_KEPT) -> ListWish:
    """What makes the entry for ``tag`` and ``number`` effectively ``new``, every other one staying what it gives.

    Of a list that is passed over, the entries of the users in ``keeping`` stay, as what is given there.
    """
    target, acl = (tag, number), posture.acl
    entries = [EntryWish(Entry(tag, new, number))]
    if acl is None or acl.mask is None:
        group = posture.mode >> 3 & 7
        union = new if tag is Tag.OWNING_GROUP else group | new
        named_there = tag is not Tag.OWNING_GROUP or acl is not None
        return ListWish(tuple(entries), (), READ if not union and named_there else None)
    named = tuple(entry for entry in acl.entries if entry.tag in NAMED and (entry.tag, entry.id) != target)
    if passes_over_list(posture.mode):
        if tag is not Tag.OWNING_GROUP:
            entries.append(EntryWish(Entry(Tag.OWNING_GROUP, 0)))
        kept = {number: has for number, has in keeping.items() if tag is not Tag.NAMED_USER}
        stays = [entry for entry in named if entry.tag is Tag.NAMED_USER and entry.id in kept]
        entries += [EntryWish(entry._replace(permissions=kept[entry.id or 0])) for entry in stays]
        gone = tuple(dict.fromkeys(entry._replace(permissions=0) for entry in named if entry not in stays))
        some = any(one.entry.permissions for one in entries)  # with a mask of --- it would be passed over again
        return ListWish(tuple(entries), gone, None if some else READ)
    mask = acl.mask | new
    rest: dict[tuple[Tag, int | None], Entry] = {}
    for entry in acl.entries:
        if entry.tag in MASKED and (entry.tag, entry.id) != target:
            rest.setdefault((entry.tag, entry.id), entry)
    if mask != acl.mask:
        cut = {key: entry._replace(permissions=effective(entry, acl.mask)) for key, entry in rest.items()}
        entries += [EntryWish(entry) for key, entry in cut.items() if entry != rest[key]]
        rest = cut
    union = new  # the mask that comes of itself
    for entry in rest.values():
        union |= entry.permissions
    return ListWish(tuple(entries), (), None if mask == union else mask or READ)
