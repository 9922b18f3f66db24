"""One word in all notations, and in words."""

from collections.abc import Iterator

from fiat.app.decode import Decoded
from fiat.core.model import capabilities, listbytes, mode, umask
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.mode import letters, octal, permission_letters, permissions_of
from fiat.core.model.posture import Kind
from fiat.core.rules.effective import effective
from fiat.core.text import Fields, quoted
from fiat.core.words import naming, notation
from fiat.core.words.notation import (
    CapabilitiesReading,
    ChangeReading,
    EntryReading,
    ListReading,
    ModeReading,
    PermissionsReading,
    Reading,
    UmaskReading,
)
from fiat.render import words
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Table, Verbatim
from fiat.render.words import NO_UMASK

_CLASSES = (("u", "owner"), ("g", "group"), ("o", "other"))
_NAMES = {
    "octal": "octal digits",
    "letters": "letters",
    "clauses": "clauses",
    "entry": "an access entry",
    "entries": "an access list in text",
    "hexadecimal": "bytes in hexadecimal",
    "base64": "bytes in base64",
}


class DecodedView(PlainResult):
    """Every reading of one word."""

    def __init__(self, found: Decoded) -> None:
        self.found = found
        self.accounts = found.host.accounts

    def records(self) -> Iterator[Fields]:
        """The word with its readings."""
        yield {"word": self.found.word, "readings": [self._fields(reading) for reading in self.found.readings]}

    def blocks(self) -> Iterator[Block]:
        """Each reading of the word, in all notations and in words."""
        for number, reading in enumerate(self.found.readings):
            if number:
                yield BLANK
            taken = "taken for" if len(self.found.readings) == 1 else "could be"
            yield Verbatim(Span(f"{quoted(self.found.word)} {taken} {_what(reading)}", "strong"))
            yield BLANK
            yield from self._reading(reading)

    def _reading(self, reading: Reading) -> Iterator[Block]:
        if isinstance(reading, ModeReading):
            yield from _mode(reading)
        elif isinstance(reading, PermissionsReading):
            yield from _permissions(reading.permissions)
        elif isinstance(reading, ChangeReading):
            yield from _change(reading)
        elif isinstance(reading, UmaskReading):
            yield from _umask(reading.umask)
        elif isinstance(reading, EntryReading):
            yield from self._entry(reading)
        elif isinstance(reading, ListReading):
            yield from self._list(reading.acl)
        else:
            yield from _capabilities(reading)

    def _fields(self, reading: Reading) -> Fields:
        about: Fields = {"notation": reading.notation}
        if isinstance(reading, ModeReading):
            kind = None if reading.kind is None else reading.kind.value
            return about | {"meaning": "mode", **_mode_fields(reading.mode), "kind": kind, "has_list": reading.has_list}
        if isinstance(reading, PermissionsReading):
            letters_alone = permission_letters(reading.permissions)
            return about | {"meaning": "permissions", "permissions": reading.permissions, "letters": letters_alone}
        if isinstance(reading, ChangeReading):
            return about | {
                "meaning": "change",
                "on": octal(reading.on_file),
                "on_directory": octal(reading.on_directory),
                "file": _mode_fields(reading.file),
                "directory": _mode_fields(reading.directory),
                "program": None if reading.program is None else _mode_fields(reading.program),
            }
        if isinstance(reading, UmaskReading):
            left = umask.leaves(reading.umask)
            return about | {
                "meaning": "umask",
                "umask": octal(reading.umask),
                "clauses": umask.clauses(reading.umask),
                "files": octal(left.files),
                "directories": octal(left.directories),
            }
        if isinstance(reading, EntryReading):
            named = naming.entry(reading.entry, self.accounts)
            return about | {"meaning": "entry", "entry": reading.entry.text(), "named": named}
        if isinstance(reading, ListReading):
            acl = reading.acl
            return about | {
                "meaning": "list",
                "acl": acl.texts(),
                "effective": [permission_letters(effective(entry, acl.mask)) for entry in acl.entries],
                "mode": octal(acl.mode()),
                **notation.in_bytes(listbytes.pack(acl)),
            }
        found = reading.capabilities
        return about | {
            "meaning": "capabilities",
            "version": found.version,
            "permitted": capabilities.names(found.permitted),
            "inheritable": capabilities.names(found.inheritable),
            "effective": found.effective,
            "rootid": found.rootid,
            **notation.in_bytes(capabilities.pack(found)),
        }

    def _entry(self, reading: EntryReading) -> Iterator[Block]:
        entry = reading.entry
        yield Verbatim(f"{entry.text()}  {naming.entry(entry, self.accounts)}", 1)
        yield BLANK
        row = [notation.sum_of(entry.permissions), permission_letters(entry.permissions)]
        meanings = [words.permissions(entry.permissions, kind) for kind in (Kind.FILE, Kind.DIRECTORY)]
        yield Table(["sum", "letters", "on a regular file", "on a directory"], [[*row, *meanings]], flexible=(2, 3))
        says = {
            Tag.OWNER: "the owner's entry: the owner gets just this, whatever else the list says",
            Tag.NAMED_USER: "for this user, cut by the mask; groups and other are then not asked",
            Tag.OWNING_GROUP: "for the owning group, cut by the mask",
            Tag.NAMED_GROUP: "for this group, cut by the mask; one entry must hold all that is asked for at once",
            Tag.MASK: "the mask: at most this for all but owner and other",
            Tag.OTHER: "for whoever no other entry matches; the mask does not count here",
        }[entry.tag]
        yield _remark(says)

    def _list(self, acl: AccessList) -> Iterator[Block]:
        yield Verbatim(",".join(acl.texts()), 1)
        yield BLANK
        rows = []
        for entry in acl.entries:
            left = effective(entry, acl.mask)
            kept = "" if entry.tag is Tag.MASK else permission_letters(left)
            meanings = (
                ["", ""] if entry.tag is Tag.MASK else [words.permissions(left, k) for k in (Kind.FILE, Kind.DIRECTORY)]
            )
            rows.append([naming.entry(entry, self.accounts), kept, *meanings])
        yield Table(["entry", "after mask", "on a regular file", "on a directory"], rows, flexible=(2, 3))
        mask = "" if acl.mask is None else "; the middle letters show the mask"
        yield _remark(f"the mode beside it: {_both(acl.mode())}{mask}")
        if acl.is_mode_only():
            yield _remark("the mode says all of this: the kernel keeps no list for it")
        yield from _bytes(listbytes.pack(acl))


def _remark(text: str) -> Prose:
    return Prose(f"-  {text}", 1, hanging="   ")


def _mode_fields(value: int) -> Fields:
    return {
        "mode": octal(value),
        "letters": letters(value),
        "clauses": mode.clauses(value),
        "special": list(mode.special_names(value)),
    }


def _what(reading: Reading) -> str:
    meaning = {
        ModeReading: "a mode in ",
        PermissionsReading: "what one class has, in ",
        ChangeReading: "a change of mode, in ",
        UmaskReading: "a umask in ",
        EntryReading: "",
        ListReading: "" if reading.notation == "entries" else "an access list, its ",
        CapabilitiesReading: "file capabilities, their ",
    }[type(reading)]
    return meaning + _NAMES[reading.notation]


def _mode(reading: ModeReading) -> Iterator[Block]:
    value = reading.mode
    yield Verbatim(f"{octal(value)}  {letters(value)}  {mode.clauses(value)}", 1)
    yield BLANK
    kinds = [reading.kind] if reading.kind else [Kind.FILE, Kind.DIRECTORY]
    rows = []
    for user_class, name in _CLASSES:
        three = permissions_of(value, user_class)
        meanings = [words.permissions(three, kind) for kind in kinds]
        rows.append([name, notation.sum_of(three), permission_letters(three), *meanings])
    headings = [f"on a {words.KIND[kind]}" for kind in kinds]
    yield Table(["", "sum", "letters", *headings], rows, flexible=tuple(range(3, 3 + len(kinds))))
    for line in _special_lines(value, kinds):
        yield _remark(line)
    if reading.has_list:
        yield _remark("the + says that there is an access list: the middle letters then show its mask")


_DOES = {
    "setuid": ("the program runs as the file's owner", "does nothing on Linux"),
    "setgid": ("the program runs with the file's group", "what is made in it gets its group"),
    "sticky": ("does nothing", "names in it are removed only by their owners, its owner, or root"),
}
"""What each special bit does, on a file and on a directory."""


def _special_lines(value: int, kinds: list[Kind]) -> list[str]:
    """The special bits in words: where each is in the sum, what it does, what a capital letter says."""
    lines = []
    for special in mode.SPECIAL_BITS:
        if not value & special.bit:
            continue
        on_file, on_directory = _DOES[special.name]
        effects = [
            f"on a {words.KIND[kind]}: {on_directory if kind is Kind.DIRECTORY else on_file}"
            for kind in kinds
            if kind in (Kind.FILE, Kind.DIRECTORY)
        ]
        capital = special.letter.upper()
        missing = "" if value & special.under else f"; the capital {capital} says that the x under it is missing"
        lines.append(f"{special.name} ({special.bit >> 9} in the first digit), {'; '.join(effects)}{missing}")
    return lines


def _permissions(three: int) -> Iterator[Block]:
    """What one class has."""
    kinds = (Kind.FILE, Kind.DIRECTORY)
    yield Verbatim(f"{three}  {permission_letters(three)}", 1)
    yield BLANK
    row = [notation.sum_of(three), permission_letters(three), *(words.permissions(three, kind) for kind in kinds)]
    yield Table(["sum", "letters", *(f"on a {words.KIND[kind]}" for kind in kinds)], [row], flexible=(2, 3))
    places = ", ".join(f"for {name} {octal(three << 3 * (2 - place))}" for place, (_, name) in enumerate(_CLASSES))
    yield _remark(f"alone in a mode: {places}")


def _change(reading: ChangeReading) -> Iterator[Block]:
    rows = [
        [name, _both(before), _both(after), mode.clauses(after)]
        for name, before, after in (
            ("a file", reading.on_file, reading.file),
            ("a program", reading.on_directory, reading.program),
            ("a directory", reading.on_directory, reading.directory),
        )
        if after is not None
    ]
    yield Table(["on", "before", "after", "the same in full"], rows)
    if reading.program is not None:
        yield Prose("Applied to the modes that are usual; --on MODE applies it to another.", 1)
    if any(not clause.classes for clause in reading.change.clauses):
        yield Prose("A clause without u, g, o or a leaves alone the bits that the umask holds.", 1)


def _umask(mask: int) -> Iterator[Block]:
    left = umask.leaves(mask)
    yield Verbatim(f"{octal(mask)}  {umask.clauses(mask)}  (clauses name what is left)", 1)
    yield BLANK
    rows = [
        ["a new file", "666", _both(left.files), _taken(mask & 0o666)],
        ["a new directory", "777", _both(left.directories), _taken(mask)],
    ]
    yield Table(["", "asked for", "left", "taken away"], rows)
    yield Prose(NO_UMASK, 1)


def _taken(mask: int) -> str:
    parts = [
        f"{name} {permission_letters(permissions_of(mask, user_class)).replace('-', '')}"
        for user_class, name in _CLASSES
        if permissions_of(mask, user_class)
    ]
    return ", ".join(parts) or "nothing"


def _both(value: int) -> str:
    return f"{octal(value)}  {letters(value)}"


def _capabilities(reading: CapabilitiesReading) -> Iterator[Block]:
    found = reading.capabilities
    for name, mask in (("permitted", found.permitted), ("inheritable", found.inheritable)):
        yield Prose(f"{name:<13}{', '.join(capabilities.names(mask)) or 'none'}", 1, hanging=" " * 13)
    yield Verbatim(f"{'effective':<13}{'from the start' if found.effective else 'once the program asks'}", 1)
    version = f"{found.version}" + (
        f", for the user namespace whose root is {found.rootid}" if found.version == 3 else ""
    )
    yield Verbatim(f"{'version':<13}{version}", 1)
    yield from _bytes(capabilities.pack(found))


def _bytes(data: bytes) -> Iterator[Block]:
    yield BLANK
    for name, text in notation.in_bytes(data).items():
        yield Verbatim(f"{name:<13}{text}", 1)
