"""POSIX access lists: entries, mask, validity, and their notations.

Source: POSIX.1e draft 17; acl(5). The kernel's bytes for them are in
:mod:`fiat.core.model.listbytes`, what people type in :mod:`fiat.core.words.entries`.
"""

from collections.abc import Iterable
from enum import IntEnum
from functools import lru_cache
from typing import NamedTuple

from fiat.core.errors import InvalidAccessList
from fiat.core.model.idmap import UNMAPPED
from fiat.core.model.mode import permission_letters

NO_ID = 0xFFFFFFFF
"""The id of entries that have none; no user or group can have this number."""


class Tag(IntEnum):
    """What an entry speaks of; values and order are the kernel's (``linux/posix_acl.h``)."""

    OWNER = 0x01
    NAMED_USER = 0x02
    OWNING_GROUP = 0x04
    NAMED_GROUP = 0x08
    MASK = 0x10
    OTHER = 0x20


_WORD = {
    Tag.OWNER: "user",
    Tag.NAMED_USER: "user",
    Tag.OWNING_GROUP: "group",
    Tag.NAMED_GROUP: "group",
    Tag.MASK: "mask",
    Tag.OTHER: "other",
}
NAMED = (Tag.NAMED_USER, Tag.NAMED_GROUP)
MASKED = (Tag.NAMED_USER, Tag.OWNING_GROUP, Tag.NAMED_GROUP)


class Entry(NamedTuple):
    """One access entry. ``id`` is a uid or gid for named entries, otherwise None."""

    tag: Tag
    permissions: int
    id: int | None = None

    def text(self) -> str:
        """POSIX.1e long text form with the number: ``user:7105:r-x``."""
        number = "" if self.id is None else min(self.id, NO_ID)  # as the kernel shows one that is not mapped
        return f"{_WORD[self.tag]}:{number}:{permission_letters(self.permissions)}"


class AccessList(NamedTuple):
    """The entries of a list, in the kernel's order."""

    entries: tuple[Entry, ...]

    def only(self, tag: Tag) -> Entry | None:
        """The first entry with ``tag``, or None."""
        return next((entry for entry in self.entries if entry.tag == tag), None)

    @property
    def mask(self) -> int | None:
        """The mask's permissions, or None where the list has no mask."""
        for entry in self.entries[:-3:-1]:  # only other stands after it
            if entry.tag is Tag.MASK:
                return entry.permissions
        return None

    def named(self) -> tuple[set[int], set[int]]:
        """The uids and the gids that entries name, but those that are not mapped."""
        uids = {entry.id for entry in self.entries if entry.tag is Tag.NAMED_USER and entry.id is not None}
        gids = {entry.id for entry in self.entries if entry.tag is Tag.NAMED_GROUP and entry.id is not None}
        return uids - {UNMAPPED}, gids - {UNMAPPED}

    @property
    def unmapped(self) -> bool:
        """Whether it names somebody who has no number here: the kernel takes no such list."""
        return any(entry.id == UNMAPPED for entry in self.entries)

    def texts(self) -> list[str]:
        """Every entry in long text form, numbers for names."""
        return [entry.text() for entry in self.entries]

    def mode(self) -> int:
        """The nine permission bits the kernel keeps in step with this list.

        The group bits are the mask where there is one (acl(5), "CORRESPONDENCE
        BETWEEN ACL ENTRIES AND FILE PERMISSION BITS").
        """
        group = self.mask
        if group is None:
            group = self._permissions(Tag.OWNING_GROUP)
        return self._permissions(Tag.OWNER) << 6 | group << 3 | self._permissions(Tag.OTHER)

    def is_mode_only(self) -> bool:
        """Whether the mode bits say all of it; the kernel keeps no list then."""
        return all(entry.tag in (Tag.OWNER, Tag.OWNING_GROUP, Tag.OTHER) for entry in self.entries)

    def _permissions(self, tag: Tag) -> int:
        entry = self.only(tag)
        return 0 if entry is None else entry.permissions


def from_mode(mode: int) -> AccessList:
    """The three entries that the permission bits of ``mode`` amount to."""
    return _from_permission_bits(mode & 0o777)


@lru_cache(512)
def _from_permission_bits(mode: int) -> AccessList:
    return AccessList(
        (
            Entry(Tag.OWNER, mode >> 6 & 7),
            Entry(Tag.OWNING_GROUP, mode >> 3 & 7),
            Entry(Tag.OTHER, mode & 7),
        )
    )


def with_entries(acl: AccessList, added: Iterable[Entry], removed: Iterable[Entry] = ()) -> AccessList:
    """``acl`` with entries added or replaced, and those for the same as ``removed`` taken out.

    The mask becomes the union of the group class, as POSIX.1e draft 17
    (23.1.4, acl_calc_mask) has it, unless ``added`` holds one; a list that
    names nobody any more has none, unless it is given.
    """
    given = {(entry.tag, entry.id): entry for entry in added}
    gone = {(entry.tag, entry.id) for entry in removed} | {(Tag.MASK, None)} | given.keys()
    # what is not spoken of stays as it is, twice where it was there twice
    chosen = [entry for entry in acl.entries if (entry.tag, entry.id) not in gone] + list(given.values())
    if (Tag.MASK, None) not in given and any(entry.tag in NAMED for entry in chosen):
        union = 0
        for entry in chosen:
            union |= entry.permissions if entry.tag in MASKED else 0
        chosen.append(Entry(Tag.MASK, union))
    return check(ordered(chosen))


# --- validity ------------------------------------------------------------


def check(entries: Iterable[Entry]) -> AccessList:
    """The entries as a list, if the kernel would take them.

    The rule is ``posix_acl_valid`` of the kernel's ``fs/posix_acl.c``: owner,
    named users, owning group, named groups, mask, other, in this order;
    owner, owning group and other exactly once; a mask wherever something is
    named. The kernel minds neither the order of ids nor repeated ids.
    Raises :class:`InvalidAccessList`.
    """
    entries = tuple(entries)
    tags = [entry.tag for entry in entries]
    for tag, what in (
        (Tag.OWNER, "owner (user::)"),
        (Tag.OWNING_GROUP, "owning group (group::)"),
        (Tag.OTHER, "other"),
    ):
        if tags.count(tag) != 1:
            raise InvalidAccessList(
                f"an access list needs one entry for the {what}, and {tags.count(tag) or 'none'} "
                f"{'are' if tags.count(tag) > 1 else 'is'} given"
            )
    if tags.count(Tag.MASK) > 1:
        raise InvalidAccessList("an access list has at most one mask")
    if tags != sorted(tags):
        raise InvalidAccessList("entries stand in the order owner, users, owning group, groups, mask, other")
    named = next((entry for entry in entries if entry.tag in NAMED), None)
    if named is not None and Tag.MASK not in tags:
        raise InvalidAccessList(f"a list that names someone ({named.text()}) needs a mask; add mask::rwx or narrower")
    for entry in entries:
        if not 0 <= entry.permissions <= 7:
            raise InvalidAccessList(f"permissions {entry.permissions} are not between 0 and 7")
        if (entry.tag in NAMED) != (entry.id is not None):
            raise InvalidAccessList(f"{entry.text()}: only a named user or group has an id, and each must have one")
        if entry.id is not None and not 0 <= entry.id < NO_ID and entry.id != UNMAPPED:
            raise InvalidAccessList(f"{entry.id} is no user or group number; numbers go from 0 to {NO_ID - 1}")
    return AccessList(entries)


def ordered(entries: Iterable[Entry]) -> tuple[Entry, ...]:
    """The entries in the kernel's order of tags, ids ascending within a tag."""
    return tuple(sorted(entries, key=lambda entry: (entry.tag, -1 if entry.id is None else entry.id)))
