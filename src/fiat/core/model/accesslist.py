"""POSIX access lists: entries, mask, validity, and their notations.

Two notations are read and written: the text form of POSIX.1e draft 17,
section 23.3 (``user:7105:r-x``; entries on lines of their own, or separated
by commas), and the bytes of the ``system.posix_acl_access`` and
``system.posix_acl_default`` extended attributes, the kernel's interface
(``linux/posix_acl_xattr.h``: a little-endian 32-bit version, then for each
entry 16-bit tag, 16-bit permissions, 32-bit id).
"""

import re
import struct
from collections.abc import Callable, Iterable
from enum import IntEnum
from functools import lru_cache
from typing import NamedTuple

from fiat.core.errors import InvalidAccessList, NotationError
from fiat.core.model.mode import permission_letters
from fiat.core.text import quoted, visible

ACCESS_XATTR = "system.posix_acl_access"
DEFAULT_XATTR = "system.posix_acl_default"

NO_ID = 0xFFFFFFFF
"""The id of entries that have none; no user or group can have this number."""

_VERSION = 2
_HEADER = struct.Struct("<I")
_ENTRY = struct.Struct("<HHI")


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
_NAMED = (Tag.NAMED_USER, Tag.NAMED_GROUP)
_MASKED = (Tag.NAMED_USER, Tag.OWNING_GROUP, Tag.NAMED_GROUP)


class Entry(NamedTuple):
    """One access entry. ``id`` is a uid or gid for named entries, otherwise None."""

    tag: Tag
    permissions: int
    id: int | None = None

    def text(self) -> str:
        """POSIX.1e long text form with the number: ``user:7105:r-x``."""
        return f"{_WORD[self.tag]}:{'' if self.id is None else self.id}:{permission_letters(self.permissions)}"


class AccessList(NamedTuple):
    """The entries of a list, in the kernel's order."""

    entries: tuple[Entry, ...]

    def only(self, tag: Tag) -> Entry | None:
        """The first entry with ``tag``, or None."""
        return next((entry for entry in self.entries if entry.tag == tag), None)

    @property
    def mask(self) -> int | None:
        """The mask's permissions, or None where the list has no mask."""
        entry = self.only(Tag.MASK)
        return None if entry is None else entry.permissions

    def effective(self, entry: Entry) -> int:
        """The permissions of ``entry`` that the mask leaves (acl(5), "ACCESS CHECK ALGORITHM")."""
        mask = self.mask
        return entry.permissions & mask if mask is not None and entry.tag in _MASKED else entry.permissions

    def named(self) -> tuple[set[int], set[int]]:
        """The uids and the gids that entries name."""
        uids = {entry.id for entry in self.entries if entry.tag is Tag.NAMED_USER and entry.id is not None}
        gids = {entry.id for entry in self.entries if entry.tag is Tag.NAMED_GROUP and entry.id is not None}
        return uids, gids

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

    def with_mode(self, mode: int) -> "AccessList":
        """This list after the kernel set the nine bits of ``mode``.

        Owner and other follow the mode; the group bits go to the mask, or to
        the owning group's entry where there is no mask (``posix_acl_chmod``
        in the kernel's ``fs/posix_acl.c``).
        """
        group_tag = Tag.OWNING_GROUP if self.mask is None else Tag.MASK
        new = {Tag.OWNER: mode >> 6 & 7, group_tag: mode >> 3 & 7, Tag.OTHER: mode & 7}
        return AccessList(
            tuple(entry._replace(permissions=new.get(entry.tag, entry.permissions)) for entry in self.entries)
        )

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
    chosen: dict[tuple[Tag, int | None], Entry] = {
        (entry.tag, entry.id): entry for entry in acl.entries if entry.tag is not Tag.MASK
    }
    given: dict[tuple[Tag, int | None], Entry] = {(entry.tag, entry.id): entry for entry in added}
    for entry in removed:
        chosen.pop((entry.tag, entry.id), None)
    chosen |= given
    if (Tag.MASK, None) not in given and any(tag in _NAMED for tag, _ in chosen):
        union = 0
        for entry in chosen.values():
            union |= entry.permissions if entry.tag in _MASKED else 0
        chosen[Tag.MASK, None] = Entry(Tag.MASK, union)
    return check(ordered(chosen.values()))


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
    named = next((entry for entry in entries if entry.tag in _NAMED), None)
    if named is not None and Tag.MASK not in tags:
        raise InvalidAccessList(f"a list that names someone ({named.text()}) needs a mask; add mask::rwx or narrower")
    for entry in entries:
        if entry.permissions not in range(8):
            raise InvalidAccessList(f"permissions {entry.permissions} are not between 0 and 7")
        if (entry.tag in _NAMED) != (entry.id is not None):
            raise InvalidAccessList(f"{entry.text()}: only a named user or group has an id, and each must have one")
        if entry.id is not None and not 0 <= entry.id < NO_ID:
            raise InvalidAccessList(f"{entry.id} is no user or group number; numbers go from 0 to {NO_ID - 1}")
    return AccessList(entries)


def ordered(entries: Iterable[Entry]) -> tuple[Entry, ...]:
    """The entries in the kernel's order of tags, ids ascending within a tag."""
    return tuple(sorted(entries, key=lambda entry: (entry.tag, -1 if entry.id is None else entry.id)))


# --- the kernel's bytes ----------------------------------------------------


def pack(acl: AccessList) -> bytes:
    """The extended attribute's value for ``acl``."""
    return _HEADER.pack(_VERSION) + b"".join(
        _ENTRY.pack(entry.tag, entry.permissions, NO_ID if entry.id is None else entry.id) for entry in acl.entries
    )


def unpack(value: bytes) -> AccessList:
    """The list in an extended attribute's value; :class:`InvalidAccessList` for other bytes."""
    size = len(value) - _HEADER.size
    if size < 0 or size % _ENTRY.size:
        raise InvalidAccessList(f"{len(value)} bytes are no access list: 4 bytes and 8 for each entry are")
    version = _HEADER.unpack_from(value)[0]
    if version != _VERSION:
        raise InvalidAccessList(f"access list of version {version}; the kernel's is version {_VERSION}")
    entries = []
    for tag, permissions, number in _ENTRY.iter_unpack(value[_HEADER.size :]):
        if tag not in Tag.__members__.values():
            raise InvalidAccessList(f"entry with tag {tag:#x}; the kernel's are {', '.join(hex(t) for t in Tag)}")
        named = tag in _NAMED
        entries.append(Entry(Tag(tag), permissions, number if named else None))
    return check(entries)


# --- text ------------------------------------------------------------------

Resolver = Callable[[str], int]
"""From a name or number as written to an id; raises UnknownAccount."""

_WORDS = {
    "user": "user",
    "u": "user",
    "group": "group",
    "g": "group",
    "mask": "mask",
    "m": "mask",
    "other": "other",
    "o": "other",
}


def parse_entry(word: str, user_id: Resolver, group_id: Resolver) -> Entry:
    """One entry in text form: ``user:auditor:r-x``, ``u:7105:rx``, ``mask::r``.

    ``user_id`` and ``group_id`` turn a name or number into an id. Raises
    :class:`NotationError` that names the field at fault.
    """
    fields = word.split(":")
    if len(fields) == 2 and _WORDS.get(fields[0].strip()) in ("mask", "other"):
        fields = [fields[0], "", fields[1]]  # POSIX.1e lets mask and other go without the empty field
    if len(fields) != 3:
        raise NotationError(
            word,
            f"entry {quoted(word)} has {len(fields)} fields; write three with colons between, such as user:NAME:r-x",
        )
    kind = _WORDS.get(fields[0].strip())
    name = fields[1].strip()
    if kind is None:
        raise NotationError(
            fields[0],
            f"entry {quoted(word)}: {quoted(fields[0])} is no kind of entry; write user, group, mask or other",
        )
    permissions = parse_permissions(fields[2].strip(), word)
    if kind in ("mask", "other"):
        if name:
            raise NotationError(
                name, f"entry {quoted(word)}: a {kind} entry names nobody; write {kind}::{visible(fields[2])}"
            )
        return Entry(Tag.MASK if kind == "mask" else Tag.OTHER, permissions)
    if kind == "user":
        return Entry(Tag.NAMED_USER, permissions, user_id(name)) if name else Entry(Tag.OWNER, permissions)
    return Entry(Tag.NAMED_GROUP, permissions, group_id(name)) if name else Entry(Tag.OWNING_GROUP, permissions)


def parse_permissions(word: str, within: str = "") -> int:
    """Permissions as ``r-x``, ``rx``, ``-`` or one octal digit; 0 to 7."""
    if re.fullmatch(r"[0-7]", word):
        return int(word)
    place = f"entry {quoted(within)}: " if within else ""
    if not word:
        raise NotationError(word, f"{place}permissions are missing; write r, w, x, or - for none")
    value = 0
    for letter in word:
        bit = {"r": 4, "w": 2, "x": 1, "-": 0}.get(letter)
        if bit is None:
            raise NotationError(letter, f"{place}{quoted(letter)} is no permission; write r, w, x, or - for none")
        if bit & value:
            raise NotationError(word, f"{place}{quoted(letter)} stands twice in {quoted(word)}")
        value |= bit
    return value


def parse_list(text: str, user_id: Resolver, group_id: Resolver) -> AccessList:
    """A whole list: entries on lines or separated by commas; ``#`` starts a comment.

    The entries may stand in any order. Raises :class:`NotationError` or
    :class:`InvalidAccessList`.
    """
    entries: list[Entry] = []
    for line in text.splitlines():
        words = (word.strip() for word in line.partition("#")[0].split(","))
        entries += [parse_entry(word, user_id, group_id) for word in words if word]
    return check(ordered(entries))
