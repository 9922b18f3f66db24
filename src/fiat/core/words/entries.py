"""Access lists in text: the form of POSIX.1e draft 17, section 23.3.

``user:7105:r-x``; entries on lines of their own, or separated by commas.
"""

import re
from collections.abc import Callable, Iterable

from fiat.core.errors import NotationError, UnknownAccount
from fiat.core.model.accesslist import AccessList, Entry, Tag, check, ordered
from fiat.core.model.wish import EntryWish
from fiat.core.text import quoted, visible

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
    """One entry in text form: ``user:auditor:r-x``, ``u:7105:rx``, ``mask::r``; also ``auditor:r``.

    ``user_id`` and ``group_id`` turn a name or number into an id. Raises
    :class:`NotationError` that names the field at fault.
    """
    fields = word.split(":")
    kind = _WORDS.get(fields[0].strip())
    if len(fields) == 2 and kind in ("mask", "other"):
        fields = [fields[0], "", fields[1]]  # POSIX.1e lets mask and other go without the empty field
    elif len(fields) == 2 and kind is None:
        name, letters = fields[0].strip(), fields[1].strip()
        whom = _whose(name, f":{letters}", user_id, group_id)
        return whom._replace(permissions=parse_permissions(letters, word))
    if len(fields) != 3:
        raise NotationError(
            word,
            f"entry {quoted(word)} has {len(fields)} fields; write three with colons between, such as user:NAME:r-x",
        )
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


def parse_whom(word: str, user_id: Resolver, group_id: Resolver) -> Entry:
    """Whom an entry is for: ``user:auditor``, ``group:press``, ``auditor``; permissions that follow do not count."""
    kind, colon, rest = word.partition(":")
    if _WORDS.get(kind.strip()) is None:
        if colon:
            parse_permissions(rest.strip(), word)
        return _whose(kind.strip(), "", user_id, group_id)
    name, colon, permissions = rest.partition(":")
    if colon and permissions:
        parse_permissions(permissions.strip(), word)
    known = _WORDS[kind.strip()]
    if not name.strip():
        return Entry(_CLASS_TAGS[known], 0)
    if known in ("mask", "other"):
        raise NotationError(name, f"{quoted(word)}: a {known} entry names nobody; write {known}:")
    if known == "user":
        return Entry(Tag.NAMED_USER, 0, user_id(name.strip()))
    return Entry(Tag.NAMED_GROUP, 0, group_id(name.strip()))


_CLASS_TAGS = {"user": Tag.OWNER, "group": Tag.OWNING_GROUP, "mask": Tag.MASK, "other": Tag.OTHER}


def _whose(name: str, rest: str, user_id: Resolver, group_id: Resolver) -> Entry:
    """The entry for ``name``, which is that of a user or of a group; ``rest`` is what was written after it."""
    found: dict[str, Entry] = {}
    reasons: list[UnknownAccount] = []
    for kind, tag, number in (("user", Tag.NAMED_USER, user_id), ("group", Tag.NAMED_GROUP, group_id)):
        try:
            found[kind] = Entry(tag, 0, number(name))
        except UnknownAccount as error:
            reasons.append(error)
    if len(found) == 1:
        return next(iter(found.values()))
    shown = visible(f"{name}{rest}")
    if not found:
        hints = "".join(dict.fromkeys(error.near for error in reasons))
        raise UnknownAccount(name, f"no user and no group is called {quoted(name)}{hints}")
    what = "could be the number of a user and of a group" if name.isdecimal() else "is both a user and a group"
    raise NotationError(name, f"{quoted(name)} {what}; write user:{shown} or group:{shown}")


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


def _apart(words: str) -> list[str]:
    """Several entries that were written with commas between."""
    return (
        [word.strip() for word in words.split(",")] if re.fullmatch(r"[^,]+:[^,]*(,[^,]+:[^,]*)+", words) else [words]
    )


def parse_entries(words: Iterable[str], user_id: Resolver, group_id: Resolver) -> tuple[EntryWish, ...]:
    """The entries written after ``--entry``: ``user:auditor:r-x``, ``group:press:rX``."""
    found = []
    for word in (one for several in words for one in _apart(several)):
        head, colon, permissions = word.rpartition(":")
        conditional = "X" in permissions and "x" not in permissions and permissions.count("X") == 1
        plain = f"{head}{colon}{permissions.replace('X', '') or '-'}" if conditional else word
        found.append(EntryWish(parse_entry(plain, user_id, group_id), conditional))
    return tuple(found)
