"""One object on a sheet: heading, entries, facts, remarks; or the objects of a directory in a table."""

from __future__ import annotations

import errno
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from fiat.app.look import Listing, Look
from fiat.core.ask.remarks import remarks_on
from fiat.core.errors import PathError
from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList, Entry, Tag, from_mode
from fiat.core.model.accounts import Accounts
from fiat.core.model.finding import Finding
from fiat.core.model.idmap import NO_NUMBERS, NumberMap
from fiat.core.model.mode import STICKY, WRITE, letters, octal, permission_letters
from fiat.core.model.posture import Kind, Mount, Object, Posture
from fiat.core.rules.effective import effective, passes_over_list
from fiat.core.text import Fields, counted, joined, visible
from fiat.core.tree.walk import walk
from fiat.core.words import naming
from fiat.core.words.naming import rank, ranked
from fiat.render import words
from fiat.render.model import BLANK, Block, Part, PlainResult, Prose, Span, Spans, Table, Verbatim, spans, unbroken

if TYPE_CHECKING:
    from fiat.core.suggest.arranging import Arranged

HEADER = ("mode", "letters", "owner", "group", "more", "name")


class ListingView(PlainResult):
    """The rows, then what was counted; names are relative to the top."""

    def __init__(self, found: Listing) -> None:
        self.found = found
        self.accounts = found.host.accounts
        self._known: dict[Posture, tuple[Spans, ...]] = {}

    def records(self) -> Iterator[Fields]:
        """Each object with its remarks."""
        from fiat.render.objects import ObjectFields

        fields = ObjectFields(self.accounts)
        for one in self.found.objects:
            yield fields.of(one, remarks_on(one, self.accounts))

    def rows(self) -> Iterator[Fields]:
        """One flat row for each object, for CSV."""
        from fiat.render.objects import flat_row

        return map(flat_row, self.records())

    def parts(self, *, text: bool) -> Iterator[Part]:
        """Each object by itself."""
        if not text:
            yield from (Part(record, apart=NOT_ABOUT_ACCESS) for record in self.records())
            return
        top = visible(self.found.top)
        for one in self.found.objects:
            row = (*cells(one.posture, self.accounts), self._name(one))
            yield Part(None, (Table(HEADER, (row,), named=True),), under=(Verbatim(top),))

    def blocks(self) -> Iterator[Block]:
        """One line for each object, in a table."""
        kinds: Counter[Kind] = Counter()

        def rows() -> Iterator[tuple[Spans, ...]]:
            for one in self.found.objects:
                kinds[one.posture.kind] += 1
                shared = self._known.get(one.posture)
                if shared is None:
                    shared = self._known[one.posture] = cells(one.posture, self.accounts)
                yield (*shared, self._name(one))

        yield Verbatim(visible(self.found.top))
        yield Table(HEADER, rows(), named=True)
        yield Verbatim(counts(kinds), 1)

    def _name(self, found: Object) -> Spans:
        """The name with what it is; of a symlink where it leads, and whether anything is there."""
        name = visible(found.path.removeprefix(self.found.top).lstrip("/")) + ending(found.posture.kind)
        if found.posture.kind is not Kind.SYMLINK:
            return name
        name += visible(found.target or "")
        return [name, Span(" (nowhere)", "no")] if walk(self.found.host, found.path).end is None else name


_ONE = {**words.KIND, Kind.FILE: "file"}


def cells(posture: Posture, accounts: Accounts) -> tuple[Spans, ...]:
    """All of a row but the name."""
    return (
        octal(posture.mode),
        coloured_letters(posture.mode, posture.kind),
        naming.user_or_number(posture.uid, accounts),
        naming.group_or_number(posture.gid, accounts),
        more(posture),
    )


def coloured_letters(mode: int, kind: Kind) -> Spans:
    """The nine letters, with what is open to everyone and special bits in colour."""
    text = letters(mode)
    if kind is Kind.SYMLINK:
        return text
    found = [Span(letter, "changed" if letter in "sStT" else "") for letter in text]
    if mode & WRITE and not (kind is Kind.DIRECTORY and mode & STICKY):
        found[7] = Span("w", "no")
    return found if any(one.style for one in found) else text


def more(posture: Posture) -> str:
    """What the mode does not say: lists with the number of their entries, flags, capabilities."""
    found: list[str] = []
    if posture.acl is not None:
        found.append(f"list {len(posture.acl.entries)}")
    if posture.default is not None:
        found.append(f"default {len(posture.default.entries)}")
    found += posture.flags or ()
    if posture.capabilities is not None:
        found.append("capabilities")
    return ", ".join(found)


def ending(kind: Kind) -> str:
    """What stands after the name of such an object; after that of a symlink comes where it leads."""
    return {Kind.DIRECTORY: "/", Kind.SYMLINK: " leads to ", Kind.FILE: ""}.get(kind, f" ({words.KIND[kind]})")


def counts(kinds: Counter[Kind]) -> str:
    """How many there are of each type."""
    return ", ".join(counted(count, _ONE[kind], words.KINDS[kind]) for kind, count in kinds.most_common()) or "nothing"


_MOUNT_WORDS = {
    "ro": "read-only",
    "noexec": "nothing can be run",
    "nosuid": "setuid, setgid and file capabilities do nothing",
    "nodev": "devices cannot be opened",
    "nosymfollow": "symlinks cannot be followed",
    "idmapped": "numbers on disk mean other users here",
}
"""The mount options that change access, with what they do."""


class Sheet(PlainResult):
    """All that one object says about access; of a symlink also what it leads to."""

    def __init__(self, found: Look, accounts: Accounts) -> None:
        self.found = found
        self.accounts = accounts

    def records(self) -> Iterator[Fields]:
        """The object, its remarks, and the object that a symlink leads to."""
        from fiat.render.objects import ObjectFields

        write = ObjectFields(self.accounts)
        fields = write.of(self.found.object, self.found.remarks)
        target = self.found.target
        if target is not None:
            end = target.end
            fields["leads_to"] = None if end is None else write.of(end, self.found.target_remarks)
        if self.found.object.posture.directory:
            from fiat.render.arrangements import arranged_fields

            fields["arrangement"] = arranged_fields(self.found.arranged, self.accounts)
        yield fields

    def parts(self, *, text: bool) -> Iterator[Part]:
        """The sheet without what differs from host to host and is not about access: sizes, times, inodes."""
        if text:
            exactly = (_everyone_in(gid, self.accounts) for gid in _groups(self.found.object.posture))
            yield Part(None, tuple(self._blocks(dated=False)), exactly=tuple(exactly))
        else:
            yield from (Part(record, apart=NOT_ABOUT_ACCESS) for record in self.records())

    def rows(self) -> Iterator[Fields]:
        """The object alone, in one flat row."""
        from fiat.render.objects import ObjectFields, flat_row

        yield flat_row(ObjectFields(self.accounts).of(self.found.object, self.found.remarks))

    def blocks(self) -> Iterator[Block]:
        """The sheet: heading, entries, facts and remarks."""
        return self._blocks(dated=True)

    def _blocks(self, *, dated: bool) -> Iterator[Block]:
        found = self.found
        yield from _sheet(found.object, found.remarks, self.accounts, found.arranged, dated=dated)
        target = self.found.target
        if target is None:
            return
        yield BLANK
        if target.end is not None:
            yield Verbatim("and what it leads to:")
            yield BLANK
            yield from _sheet(target.end, self.found.target_remarks, self.accounts, dated=dated)
        elif target.errno == errno.ENOENT:
            yield Verbatim([Span("It leads nowhere", "no"), f": there is no {visible(target.failed_at)}"])
        else:
            yield Verbatim(str(PathError(target.failed_at, target.errno, "follow it to")))


NOT_ABOUT_ACCESS = ("size", "changed", "modified", "inode", "birth", "links", "filesystem", "device")
"""Fields of an object that are hardly the same on two hosts, and decide nothing."""


def _sheet(
    found: Object,
    remarks: Sequence[Finding],
    accounts: Accounts,
    arranged: Arranged | None = None,
    *,
    dated: bool,
) -> Iterator[Block]:
    yield Verbatim(Span(visible(found.path), "strong"))
    yield Prose([octal(found.posture.mode), "  ", *_letters(found), "  ", _headline(found, dated=dated)], 1)
    yield BLANK
    if found.posture.kind is not Kind.SYMLINK:
        yield _entries(found.posture, accounts)
        yield BLANK
    for label, value in _facts(found, accounts):
        yield Prose(f"{label:<14}{value}", 1, hanging=" " * 14)
    if arranged is not None:
        from fiat.render.arrangements import arranged_words

        yield Prose(f"{'arrangement':<14}{arranged_words(arranged, accounts)}", 1, hanging=" " * 14)
    if remarks:
        yield BLANK
    for remark in remarks:
        mark = {"danger": "!!", "odd": "! "}.get(remark.weight, "- ")
        style = "no" if mark.startswith("!") else "faint"
        yield Prose([Span(mark, style), f" {remark.text}"], 1, hanging="   ")


def _headline(found: Object, *, dated: bool) -> str:
    posture, status = found.posture, found.status
    parts = [words.KIND[posture.kind]]
    if not dated:
        return parts[0]
    if posture.kind is Kind.FILE:
        parts.append(counted(status.size, "byte"))
    if posture.kind is not Kind.DIRECTORY:
        parts.append(counted(status.links, "name"))
    modified, changed = (None if one is None else _when(one) for one in (status.modified, status.changed))
    if modified is not None:
        parts.append(f"modified {modified}")
    if changed is not None and changed != modified:
        parts.append(f"status changed {changed}")
    return ", ".join(parts)


def _letters(found: Object) -> list[str | Span]:
    given = coloured_letters(found.posture.mode, found.posture.kind)
    return [given] if isinstance(given, str) else list(spans(given))


def _when(nanoseconds: int) -> str:
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(nanoseconds // 10**9))


# --- entries -----------------------------------------------------------------


def _entries(posture: Posture, accounts: Accounts) -> Table:
    """Every entry, or the mode's three classes, with what the mask leaves and what that means."""
    acl = posture.acl or from_mode(posture.mode)
    header = ["entry", "", "letters", "after mask", "which lets them"]
    rows = [_entry_row(entry, acl, posture, accounts) for entry in acl.entries]
    if acl.mask is None:
        del header[3]
        for row in rows:
            del row[3]
    return Table(header, rows)


def _entry_row(entry: Entry, acl: AccessList, posture: Posture, accounts: Accounts) -> list[Spans]:
    kind, name = _whom(entry, posture, accounts)
    given = permission_letters(entry.permissions)
    if entry.tag is Tag.MASK:
        return [kind, name, given, "", "at most this, for all but owner and other"]
    left = effective(entry, acl.mask)
    kept = Span(permission_letters(left), "faint" if left == entry.permissions else "no")
    meaning = words.permissions(left, posture.kind)
    if entry.id is not None and passes_over_list(posture.mode):
        meaning = "the same as other: the list is passed over"
    return [kind, name, given, kept, meaning]


def _whom(entry: Entry, posture: Posture, accounts: Accounts) -> tuple[str, str]:
    """The kind of entry and whom it speaks of."""
    if entry.tag is Tag.OWNER:
        return "owner", naming.user_with_number(posture.uid, accounts)
    if entry.tag is Tag.NAMED_USER and entry.id is not None:
        return "user", naming.user_with_number(entry.id, accounts)
    if entry.tag in (Tag.OWNING_GROUP, Tag.NAMED_GROUP):
        return "group", naming.group_with_number(posture.gid if entry.id is None else entry.id, accounts)
    return ("mask" if entry.tag is Tag.MASK else "other"), ""


# --- facts -------------------------------------------------------------------


def _facts(found: Object, accounts: Accounts) -> list[tuple[str, str]]:
    posture = found.posture
    facts = []
    if posture.kind is Kind.SYMLINK:
        facts.append(("leads to", unbroken(visible(found.target or ""))))
        facts.append(("owner", naming.user_with_number(posture.uid, accounts)))
    same = [visible(user.name) for user in accounts.users_numbered(posture.uid)][1:]
    if same:
        facts.append(("owner too", f"{joined(same)}, of the same number {posture.uid}"))
    if posture.kind is not Kind.SYMLINK:
        groups = enumerate(_groups(posture))
        facts += [("members" if place == 0 else "", _members(gid, accounts)) for place, gid in groups]
        facts += _list_facts(found, accounts)
    if posture.flags:
        facts.append(("flags", ", ".join(posture.flags)))
    if found.other_flags:
        facts.append(("other flags", ", ".join(found.other_flags)))
    if posture.capabilities is not None:
        facts.append(("capabilities", _capabilities(posture.capabilities)))
    if found.mount is not None:
        facts.append(("mount", _mount(found.mount)))
    if found.label is not None:
        facts.append(("security label", f" {visible(found.label)}"))
    return facts


def _groups(posture: Posture) -> list[int]:
    """The groups that it speaks of: the owning one, then those of the list."""
    return [posture.gid, *(sorted(posture.acl.named()[1] - {posture.gid}) if posture.acl else ())]


def _everyone_in(gid: int, accounts: Accounts) -> list[str]:
    return sorted({user.name for user in (*accounts.primary_members(gid), *accounts.listed_members(gid))})


def _members(gid: int, accounts: Accounts) -> str:
    if gid in NO_NUMBERS:
        return "nobody here"
    name = naming.group_with_number(gid, accounts)
    primary = accounts.primary_members(gid)
    listed = [user for user in accounts.listed_members(gid) if user.gid != gid]
    if not primary and not listed:
        return f"nobody is in {name}" if accounts.has_no_members(gid) else f"no member of {name} is known"
    parts = [
        f"{ranked([(visible(user.name), rank(user, accounts)) for user in found], 6, '')} ({how})"
        for found, how in ((primary, "primary"), (listed, "listed"))
        if found
    ]
    return f"{counted(len(primary) + len(listed), 'user')} in {name}: {'; '.join(parts)}"


def _list_facts(found: Object, accounts: Accounts) -> list[tuple[str, str]]:
    default = found.posture.default
    if default is None:
        return []
    return [("default list", ", ".join(naming.entry(entry, accounts) for entry in default.entries))]


def _capabilities(found: capabilities.FileCapabilities) -> str:
    sets = (("permitted", found.permitted), ("inheritable", found.inheritable))
    parts = [f"{name} {', '.join(capabilities.names(mask))}" for name, mask in sets if mask]
    parts.append("effective from the start" if found.effective else "effective once the program asks")
    if found.rootid is not None:
        parts.append(f"for the user namespace whose root is {found.rootid}")
    return f"{'; '.join(parts)} (version {found.version})"


_EXTENTS = 3
"""So many ranges of numbers are told."""


def _extents(numbers: NumberMap) -> str:
    """Which numbers here are which on disk: ``7101 to 7110 here are 1000 to 1009 on disk``."""

    def several(first: int, count: int) -> str:
        return str(first) if count == 1 else f"{first} to {first + count - 1}"

    told = [
        f"{several(here, count)} here {'is' if count == 1 else 'are'} {several(disk, count)} on disk"
        for disk, here, count in numbers.extents[:_EXTENTS]
    ]
    more = len(numbers.extents) - _EXTENTS
    return joined([*told, *([f"{more} more ranges"] if more > 0 else [])]) or "none"


def _mount(mount: Mount) -> str:
    options = (*mount.options, *(("ro",) if mount.read_only else ()))
    counting = [f"{option}: {meaning}" for option, meaning in _MOUNT_WORDS.items() if option in options]
    if mount.id_map is not None:
        kinds = (("users", mount.id_map.users), ("groups", mount.id_map.groups))
        counting += [f"{what} {_extents(numbers)}" for what, numbers in kinds]
    return "; ".join([f"{unbroken(visible(mount.point))}, {visible(mount.type)}", *counting])
