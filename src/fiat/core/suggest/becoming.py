"""One wish for what several do one after the other."""

from collections.abc import Iterable

from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.posture import Posture
from fiat.core.model.wish import EntryWish, ListWish, Wish


def becoming(before: Posture, after: Posture, wishes: Iterable[Wish]) -> Wish:
    """The wish that makes ``after`` of ``before``, as ``wishes`` did one after the other, with the entries that these
    ask for, or that are other ones, named as asked for."""
    access, default = (
        {(one.entry.tag, one.entry.id) for wish in some for one in wish.entries}
        for some in zip(*((wish.access, wish.default) for wish in wishes), strict=True)
    )
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
