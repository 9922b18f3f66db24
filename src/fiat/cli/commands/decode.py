"""Translate any notation into all the others and into words: a mode in octal
(640, 2750), letters (rwxr-x---, or ten with the type) or clauses (u=rw,g+X),
an access entry or a whole list in text, the bytes of a list or of file
capabilities in hexadecimal or base64, a umask.

What could be a mode or a umask is answered both ways; --umask takes it for a
umask."""

import argparse
import re
from typing import Any

from fiat.cli.options.hosts import open_host
from fiat.cli.parser import add_common
from fiat.cli.status import Status
from fiat.core.errors import FiatError
from fiat.core.model import accesslist, capabilities, mode, umask
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import letters, octal, permission_letters, permissions_of
from fiat.core.model.posture import Kind
from fiat.core.text import quoted
from fiat.core.words import naming, notation
from fiat.core.words.notation import (
    CapabilitiesReading,
    ChangeReading,
    EntryReading,
    ListReading,
    ModeReading,
    Reading,
    UmaskReading,
)
from fiat.render import terminal, words
from fiat.render.report import Report

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


EXAMPLES = (
    ("a mode", "fiat decode 2750"),
    ("what a change makes of a mode", "fiat decode g-w,o= --on 664"),
    ("an access list", "fiat decode u::rw,u:auditor:r,g::r,m::r,o::-"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat decode``."""
    parser.add_argument("words", nargs="+", metavar="WORD", help="what to translate")
    parser.add_argument(
        "--on", metavar="MODE", default="0000", help="the mode that clauses are applied to (none unless given)"
    )
    parser.add_argument("--umask", action="store_true", help="take each word for a umask")
    add_common(parser)


def prepare(arguments: list[str]) -> list[str]:
    """Letters may begin with a dash, as no option does: a space before them keeps the parser from asking."""
    return [f" {word}" if re.match(r"-[-rwxsStT]{2}[-rwxsStT+=,]*$", word) else word for word in arguments]


def run(args: argparse.Namespace) -> int:
    """Translate each word."""
    report = Report("decode", args.format)
    host = open_host(args)
    (on,) = [reading.mode for reading in notation.read(args.on, host.accounts) if isinstance(reading, ModeReading)] or [
        0
    ]
    failed = False
    for word in (word.strip() for word in args.words):
        try:
            if args.umask:
                readings: list[Reading] = [notation.read_umask(word, host.settings.umask)]
            else:
                readings = notation.read(word, host.accounts, on=on, mask=host.settings.umask)
        except FiatError as error:
            report.complaint(error)
            failed = True
            continue
        if report.as_text:
            for reading in readings:
                if report.answered:
                    print()
                _print(word, reading, host.accounts, alone=len(readings) == 1)
                report.count()
        else:
            report.add({"word": word, "readings": [_fields(reading, host.accounts) for reading in readings]})
    status = Status.DONE if not failed else Status.IN_PART if report.answered else Status.WRONG_COMMAND_LINE
    return report.finish(status)


# --- machine output ------------------------------------------------------------


def _fields(reading: Reading, accounts: Accounts) -> dict[str, Any]:
    about: dict[str, Any] = {"notation": reading.notation}
    if isinstance(reading, ModeReading):
        kind = None if reading.kind is None else reading.kind.value
        return about | {"meaning": "mode", **_mode_fields(reading.mode), "kind": kind, "has_list": reading.has_list}
    if isinstance(reading, ChangeReading):
        return about | {
            "meaning": "change",
            "on": octal(reading.on),
            "file": _mode_fields(reading.file),
            "directory": _mode_fields(reading.directory),
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
        return about | {
            "meaning": "entry",
            "entry": reading.entry.text(),
            "named": naming.entry(reading.entry, accounts),
        }
    if isinstance(reading, ListReading):
        return about | {
            "meaning": "list",
            "acl": reading.acl.texts(),
            "effective": [permission_letters(reading.acl.effective(entry)) for entry in reading.acl.entries],
            "mode": octal(reading.acl.mode()),
            **notation.in_bytes(accesslist.pack(reading.acl)),
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


def _mode_fields(value: int) -> dict[str, Any]:
    return {
        "mode": octal(value),
        "letters": letters(value),
        "clauses": mode.clauses(value),
        "special": list(mode.special_names(value)),
    }


# --- text ------------------------------------------------------------------------


def _print(word: str, reading: Reading, accounts: Accounts, *, alone: bool) -> None:
    taken = "taken for" if alone else "could be"
    print(terminal.paint(f"{quoted(word)} {taken} {_what(reading)}", "strong"))
    if isinstance(reading, ModeReading):
        _print_mode(reading)
    elif isinstance(reading, ChangeReading):
        _print_change(reading)
    elif isinstance(reading, UmaskReading):
        _print_umask(reading.umask)
    elif isinstance(reading, EntryReading):
        _print_entry(reading, accounts)
    elif isinstance(reading, ListReading):
        _print_list(reading.acl, accounts)
    else:
        _print_capabilities(reading)


def _what(reading: Reading) -> str:
    meaning = {
        ModeReading: "a mode in ",
        ChangeReading: "a change of mode, in ",
        UmaskReading: "a umask in ",
        EntryReading: "",
        ListReading: "" if reading.notation == "entries" else "an access list, its ",
        CapabilitiesReading: "file capabilities, their ",
    }[type(reading)]
    return meaning + _NAMES[reading.notation]


def _print_mode(reading: ModeReading) -> None:
    value = reading.mode
    print(f"\n{terminal.INDENT}{octal(value)}  {letters(value)}  {mode.clauses(value)}\n")
    kinds = [reading.kind] if reading.kind else [Kind.FILE, Kind.DIRECTORY]
    rows = []
    for user_class, name in _CLASSES:
        three = permissions_of(value, user_class)
        meanings = [words.permissions(three, kind) for kind in kinds]
        rows.append([name, notation.sum_of(three), permission_letters(three), *meanings])
    headings = [f"on a {words.KIND[kind]}" for kind in kinds]
    print(terminal.table(["", "sum", "letters", *headings], rows))
    for line in _special_lines(value, kinds):
        terminal.say(f"-  {line}", terminal.INDENT, hanging="   ")
    if reading.has_list:
        text = "-  the + says that there is an access list: the middle letters then show its mask"
        terminal.say(text, terminal.INDENT, hanging="   ")


_SPECIAL = (
    (mode.SETUID, 0o100, "setuid", "the program runs as the file's owner", "does nothing on Linux", "S"),
    (mode.SETGID, 0o010, "setgid", "the program runs with the file's group", "what is made in it gets its group", "S"),
    (
        mode.STICKY,
        0o001,
        "sticky",
        "does nothing",
        "names in it are removed only by their owners, its owner, or root",
        "T",
    ),
)


def _special_lines(value: int, kinds: list[Kind]) -> list[str]:
    """The special bits in words: where each is in the sum, what it does, what a capital letter says."""
    lines = []
    for bit, under, name, on_file, on_directory, capital in _SPECIAL:
        if not value & bit:
            continue
        effects = [
            f"on a {words.KIND[kind]}: {on_directory if kind is Kind.DIRECTORY else on_file}"
            for kind in kinds
            if kind in (Kind.FILE, Kind.DIRECTORY)
        ]
        missing = "" if value & under else f"; the capital {capital} says that the x under it is missing"
        lines.append(f"{name} ({bit >> 9} in the first digit), {'; '.join(effects)}{missing}")
    return lines


def _print_change(reading: ChangeReading) -> None:
    print()
    rows = [
        [name, _both(reading.on), _both(after), mode.clauses(after)]
        for name, after in (("a file", reading.file), ("a directory", reading.directory))
    ]
    print(terminal.table(["on", "before", "after", "the same in full"], rows))
    if not reading.on:
        terminal.say("Applied to no bits at all; --on MODE applies it to a mode.", terminal.INDENT)
    if any(not clause.classes for clause in reading.change.clauses):
        terminal.say("A clause without u, g, o or a leaves alone the bits that the umask holds.", terminal.INDENT)


def _print_umask(mask: int) -> None:
    left = umask.leaves(mask)
    print(f"\n{terminal.INDENT}{octal(mask)}  {umask.clauses(mask)}  (clauses name what is left)\n")
    rows = [
        ["a new file", "666", _both(left.files), _taken(mask & 0o666)],
        ["a new directory", "777", _both(left.directories), _taken(mask)],
    ]
    print(terminal.table(["", "asked for", "left", "taken away"], rows))
    terminal.say(
        "In a directory with a default list the umask does not count: new entries take that list over.",
        terminal.INDENT,
    )


def _taken(mask: int) -> str:
    parts = [
        f"{name} {permission_letters(permissions_of(mask, user_class)).replace('-', '')}"
        for user_class, name in _CLASSES
        if permissions_of(mask, user_class)
    ]
    return ", ".join(parts) or "nothing"


def _both(value: int) -> str:
    return f"{octal(value)}  {letters(value)}"


def _print_entry(reading: EntryReading, accounts: Accounts) -> None:
    entry = reading.entry
    print(f"\n{terminal.INDENT}{entry.text()}  {naming.entry(entry, accounts)}\n")
    row = [notation.sum_of(entry.permissions), permission_letters(entry.permissions)]
    meanings = [words.permissions(entry.permissions, kind) for kind in (Kind.FILE, Kind.DIRECTORY)]
    print(terminal.table(["sum", "letters", "on a regular file", "on a directory"], [[*row, *meanings]]))
    says = {
        Tag.OWNER: "the owner's entry: the owner gets just this, whatever else the list says",
        Tag.NAMED_USER: "for this user, cut by the mask; groups and other are then not asked",
        Tag.OWNING_GROUP: "for the owning group, cut by the mask",
        Tag.NAMED_GROUP: "for this group, cut by the mask; one entry must hold all that is asked for at once",
        Tag.MASK: "the mask: at most this for all but owner and other",
        Tag.OTHER: "for whoever no other entry matches; the mask does not count here",
    }[entry.tag]
    terminal.say(f"-  {says}", terminal.INDENT, hanging="   ")


def _print_list(acl: AccessList, accounts: Accounts) -> None:
    print(f"\n{terminal.INDENT}{','.join(acl.texts())}\n")
    rows = []
    for entry in acl.entries:
        left = acl.effective(entry)
        kept = "" if entry.tag is Tag.MASK else permission_letters(left)
        meanings = (
            ["", ""] if entry.tag is Tag.MASK else [words.permissions(left, k) for k in (Kind.FILE, Kind.DIRECTORY)]
        )
        rows.append([naming.entry(entry, accounts), kept, *meanings])
    print(terminal.table(["entry", "after mask", "on a regular file", "on a directory"], rows))
    mask = "" if acl.mask is None else "; the middle letters show the mask"
    terminal.say(f"-  the mode beside it: {_both(acl.mode())}{mask}", terminal.INDENT, hanging="   ")
    if acl.is_mode_only():
        terminal.say("-  the mode says all of this: the kernel keeps no list for it", terminal.INDENT, hanging="   ")
    _print_bytes(accesslist.pack(acl))


def _print_capabilities(reading: CapabilitiesReading) -> None:
    found = reading.capabilities
    print()
    for name, mask in (("permitted", found.permitted), ("inheritable", found.inheritable)):
        print(f"{terminal.INDENT}{name:<13}{', '.join(capabilities.names(mask)) or 'none'}")
    print(f"{terminal.INDENT}{'effective':<13}{'from the start' if found.effective else 'once the program asks'}")
    version = f"{found.version}" + (
        f", for the user namespace whose root is {found.rootid}" if found.version == 3 else ""
    )
    print(f"{terminal.INDENT}{'version':<13}{version}")
    _print_bytes(capabilities.pack(found))


def _print_bytes(data: bytes) -> None:
    print()
    for name, text in notation.in_bytes(data).items():
        print(f"{terminal.INDENT}{name:<13}{text}")
