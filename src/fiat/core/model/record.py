"""The records of Fiat: postures, objects, mounts, accounts and findings as JSON has them, both ways.

``show`` prints these fields, a snapshot and the history hold them, so what one
host shows another can hold in memory. List entries carry numbers, never names.
"""

import errno
from functools import lru_cache
from typing import Any, NamedTuple

from fiat.core.errors import NotationError, RecordError
from fiat.core.model import capabilities, mode, modechange
from fiat.core.model.accesslist import NO_ID, AccessList, Entry, Tag, check
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.host import Settings
from fiat.core.model.idmap import NO_NUMBERS, OUTSIDE, OVERFLOW, UNMAPPED, IdMap, NumberMap
from fiat.core.model.listbytes import MOST_ENTRIES
from fiat.core.model.posture import (
    FLAGS,
    LAYERS,
    OTHER_FLAGS,
    UNKNOWN,
    Format,
    Identity,
    Kind,
    Mount,
    Object,
    Posture,
    Program,
    Status,
)
from fiat.core.model.schema import Field, Form, Listed, Number, OrNone, Record, Text, Truth, Word, wrong
from fiat.core.text import Fields, quoted

ID = Number(0, NO_ID - 1)
"""The number of a user or a group."""


class _OwnerIds(NamedTuple):
    """Numbers of owners and owning groups, those that are none among them (:mod:`fiat.core.model.idmap`)."""

    least: int = 0
    most: int = OUTSIDE

    def write(self, value: int) -> Any:
        return value

    def read(self, data: Any, place: str) -> int:
        return data if data in NO_NUMBERS else ID.read(data, place)


OWNER_ID = _OwnerIds()
"""The number of an owner or of an owning group."""


# --- words ---------------------------------------------------------------------------


@lru_cache(4096)
def _mode(word: str) -> int:
    change = modechange.parse_change(word)
    if change.octal is None:
        raise NotationError(word, f"{quoted(word)} is no octal mode")
    return change.octal


def _flag(word: str) -> str:
    if word not in FLAGS:
        raise NotationError(word, f"{quoted(word)} is no flag")
    return word


def _capability(word: str) -> int:
    return capabilities.mask_of([word])


_PERMISSIONS = {mode.permission_letters(value): value for value in range(8)}
_TAGS = {
    ("user", False): Tag.OWNER,
    ("user", True): Tag.NAMED_USER,
    ("group", False): Tag.OWNING_GROUP,
    ("group", True): Tag.NAMED_GROUP,
    ("mask", False): Tag.MASK,
    ("other", False): Tag.OTHER,
}


@lru_cache(4096)
def _entry(word: str) -> Entry:
    """An entry as :meth:`Entry.text` writes it; names are errors here, not something to look up."""
    kind, _, rest = word.partition(":")
    number, _, letters = rest.partition(":")
    tag = _TAGS.get((kind, bool(number)))
    permissions = _PERMISSIONS.get(letters)
    if tag is None or permissions is None or (number and not (number.isascii() and number.isdecimal())):
        raise NotationError(word, f"{quoted(word)} is no entry")
    if len(number) > 10 or (number and int(number) > NO_ID):
        raise NotationError(word, f"{quoted(number)} is no number of a user or group")
    if not number:
        return Entry(tag, permissions)
    return Entry(tag, permissions, UNMAPPED if int(number) == NO_ID else int(number))


KIND: Form[Kind] = Word(lambda kind: kind.value, Kind, f"one of {', '.join(kind.value for kind in Kind)}")
MODE: Form[int] = Word(mode.octal, _mode, "an octal mode such as 0640")
FLAG: Form[str] = Word(str, _flag, f"one of {', '.join(FLAGS)}")
ENTRY: Form[Entry] = Word(Entry.text, _entry, "an entry with a number, such as user:7105:r-x,")


class _Paths:
    """Absolute paths, each written in one way only."""

    def write(self, value: str) -> Any:
        return value

    def read(self, data: Any, place: str) -> str:
        path = Text().read(data, place)
        names = path.split("/")[1:]
        if not path.startswith("/") or "\0" in path or (path != "/" and not {"", ".", ".."}.isdisjoint(names)):
            raise wrong(place, data, "an absolute path without . and .. and a slash at its end")
        return path


class _Names:
    """Names of users and groups: whatever the files passwd(5) and group(5) can hold."""

    def write(self, value: str) -> Any:
        return value

    def read(self, data: Any, place: str) -> str:
        name = Text().read(data, place)
        if not name or not set(name).isdisjoint(":\n\0"):
            raise wrong(place, data, "a name, which is not empty and holds no colon,")
        return name


PATH: Form[str] = _Paths()
NAME: Form[str] = _Names()


class _AccessLists:
    """Access lists: the entries in the kernel's order."""

    def write(self, value: AccessList) -> Any:
        return value.texts()

    def read(self, data: Any, place: str) -> AccessList:
        if isinstance(data, list) and len(data) > MOST_ENTRIES:
            raise RecordError(place, f"has {len(data):,} entries, and no kernel keeps more than {MOST_ENTRIES:,}")
        entries = Listed(ENTRY).read(data, place)
        try:
            return check(entries)
        except Exception as error:
            raise wrong(place, data, f"a list that the kernel would take ({error})") from error


class _Masks:
    """Sets of capabilities: their names."""

    def write(self, value: int) -> Any:
        return capabilities.names(value)

    def read(self, data: Any, place: str) -> int:
        names = Listed(Word(str, lambda word: (_capability(word), word)[1], "the name of a capability"))
        return capabilities.mask_of(list(names.read(data, place)))


LIST: Form[AccessList] = _AccessLists()
MASK: Form[int] = _Masks()

CAPABILITIES: Record[FileCapabilities] = Record(
    lambda found: FileCapabilities(**found),
    Field("version", lambda value: value.version, Number(1, 3)),
    Field("permitted", lambda value: value.permitted, MASK),
    Field("inheritable", lambda value: value.inheritable, MASK),
    Field("effective", lambda value: value.effective, Truth(), required=False, default=False),
    Field("rootid", lambda value: value.rootid, OrNone(ID), required=False),
)


class _NumberMaps:
    """Numbers that are others elsewhere: the first there, the first here and how many, of each extent."""

    def write(self, value: NumberMap) -> Any:
        return [list(extent) for extent in value.extents]

    def read(self, data: Any, place: str) -> NumberMap:
        extents = Listed(Listed(Number(0, NO_ID))).read(data, place)
        if any(len(extent) != len(("inside", "outside", "count")) for extent in extents):
            raise wrong(place, data, "a list of three numbers for each extent")
        return NumberMap(tuple((one[0], one[1], one[2]) for one in extents))


ID_MAP: Record[IdMap] = Record(
    lambda found: IdMap(**found),
    Field("users", lambda numbers: numbers.users, _NumberMaps()),
    Field("groups", lambda numbers: numbers.groups, _NumberMaps()),
)
"""Numbers of users and groups that are others elsewhere."""

MOUNT: Record[Mount] = Record(
    lambda found: Mount(
        found["point"],
        found["type"],
        found["options"],
        found["filesystem_options"] or ("rw",),
        id_map=found["id_map"],
    ),
    Field("point", lambda mount: mount.point, PATH),
    Field("type", lambda mount: mount.type, Text()),
    Field("options", lambda mount: mount.options, Listed(Text())),
    Field("filesystem_options", lambda mount: mount.filesystem_options, OrNone(Listed(Text())), required=False),
    Field("id_map", lambda mount: mount.id_map, OrNone(ID_MAP), required=False),
)
"""A mount; ``filesystem_options`` are those every mount of it shares."""

PROGRAM: Record[Program] = Record(
    lambda found: _make_program(found),
    Field(
        "format",
        lambda program: program.format,
        Word(lambda one: one.value, Format, f"one of {', '.join(one.value for one in Format)}"),
    ),
    Field("runs_with", lambda program: program.runs_with, OrNone(Text()), required=False),
    Field("problem", lambda program: program.problem, OrNone(Text()), required=False),
    Field("errno", lambda program: program.errno, OrNone(Number(0, 4095)), required=False),
    Field("loader_errno", lambda program: program.loader_errno, OrNone(Number(0, 4095)), required=False),
    Field("hangs_on", lambda program: program.hangs_on, OrNone(Text()), required=False),
)


def _make_program(found: Fields) -> Program:
    """Where no errno is given, the one that nearly all of the format have."""
    kind, error, as_loader = found["format"], found["errno"], found["loader_errno"]
    if error is None:
        error = errno.ENOEXEC if kind is Format.NONE else 0
    if as_loader is None:
        as_loader = errno.ELIBBAD if kind in (Format.NONE, Format.SCRIPT) else 0
    return Program(kind, found["runs_with"], found["problem"] or "", error, as_loader, found["hangs_on"] or "")


USER: Record[User] = Record(
    lambda found: User(**{name: value for name, value in found.items() if value is not None}),
    Field("name", lambda user: user.name, NAME),
    Field("uid", lambda user: user.uid, ID),
    Field("gid", lambda user: user.gid, ID),
    Field("home", lambda user: user.home, OrNone(Text()), required=False),
    Field("shell", lambda user: user.shell, OrNone(Text()), required=False),
)

GROUP: Record[Group] = Record(
    lambda found: Group(**found),
    Field("name", lambda group: group.name, NAME),
    Field("gid", lambda group: group.gid, ID),
    Field("members", lambda group: group.members, Listed(Text())),
)

_LEVEL = Number(0, 2)

SETTINGS: Record[Settings] = Record(
    lambda found: Settings(**{name: value for name, value in found.items() if value is not None}),
    Field("umask", lambda settings: settings.umask, OrNone(MODE), required=False),
    Field("protected_symlinks", lambda settings: settings.protected_symlinks, OrNone(Truth()), required=False),
    Field("protected_regular", lambda settings: settings.protected_regular, OrNone(_LEVEL), required=False),
    Field("protected_fifos", lambda settings: settings.protected_fifos, OrNone(_LEVEL), required=False),
    Field("security_modules", lambda settings: settings.security_modules, OrNone(Listed(Text())), required=False),
    Field("user_namespace", lambda settings: settings.user_namespace, OrNone(Truth()), required=False),
)


# --- postures and objects --------------------------------------------------------------


_NO_NUMBERS = {UNMAPPED: "unmapped", OUTSIDE: "outside"}
"""Why an owner has no number here; beside it stands what stat(2) shows."""


class _Owners:
    """A user or a group: its number, and beside it the name, which only those who read the record need."""

    def __init__(self, number: str, accounts: Accounts | None) -> None:
        self._number = number
        self._accounts = accounts

    def write(self, value: int) -> Any:
        found: User | Group | None = None
        if value in NO_NUMBERS:
            return {self._number: OVERFLOW, "name": None, "no_number": _NO_NUMBERS[value]}
        if self._accounts is not None:
            numbered = self._accounts.user_numbered if self._number == "uid" else self._accounts.group_numbered
            found = numbered(value)
        return {self._number: value, "name": found.name if found else None}

    def read(self, data: Any, place: str) -> int:
        if not isinstance(data, dict):
            raise wrong(place, data, "an object")
        OrNone(Text()).read(data.get("name"), f"{place}.name")
        none = data.get("no_number")
        for number, word in _NO_NUMBERS.items():
            if none == word:
                return number
        if none is not None:
            raise wrong(f"{place}.no_number", none, " or ".join(_NO_NUMBERS.values()))
        return ID.read(data.get(self._number), f"{place}.{self._number}")


def _posture_fields(accounts: Accounts | None) -> tuple[Field, ...]:
    return (
        Field("kind", lambda posture: posture.kind, KIND),
        Field("mode", lambda posture: posture.mode, MODE),
        Field("letters", lambda posture: mode.letters(posture.mode), OrNone(Text()), required=False),
        Field(
            "special", lambda posture: list(mode.special_names(posture.mode)), OrNone(Listed(Text())), required=False
        ),
        Field("owner", lambda posture: posture.uid, _Owners("uid", accounts)),
        Field("group", lambda posture: posture.gid, _Owners("gid", accounts)),
        Field("acl", lambda posture: posture.acl, OrNone(LIST), required=False),
        Field("default", lambda posture: posture.default, OrNone(LIST), required=False),
        Field("flags", lambda posture: posture.flags, OrNone(Listed(FLAG)), required=False, default=()),
        Field("capabilities", lambda posture: posture.capabilities, OrNone(CAPABILITIES), required=False),
    )


def _make_posture(found: Fields) -> Posture:
    bits = found["mode"]
    for name, right in (("letters", mode.letters(bits)), ("special", mode.special_names(bits))):
        if found[name] is not None and found[name] != right:  # which of both was meant nobody can tell
            shown = right if isinstance(right, str) else f"[{', '.join(right)}]"
            raise RecordError(name, f"does not go with the mode {mode.octal(bits)}, whose {name} are {shown}")
    return Posture(
        kind=found["kind"],
        mode=found["mode"],
        uid=found["owner"],
        gid=found["group"],
        acl=found["acl"],
        default=found["default"],
        flags=found["flags"],
        capabilities=found["capabilities"],
    )


class PostureRecord(Record[Posture]):
    """The record of a posture; ``accounts`` give the names that are written beside the numbers."""

    def __init__(self, accounts: Accounts | None = None) -> None:
        super().__init__(_make_posture, *_posture_fields(accounts))


POSTURE = PostureRecord()
"""That of a posture without names."""

_UNREADABLE = Number(0, 4095)
_UNKNOWN: Form[str] = Word(str, lambda word: UNKNOWN[UNKNOWN.index(word)], f"one of {', '.join(UNKNOWN)}")

_OTHER_FLAG: Form[str] = Word(
    str, lambda word: OTHER_FLAGS[OTHER_FLAGS.index(word)], f"one of {', '.join(OTHER_FLAGS)}"
)

_LAYER: Form[str] = Word(str, lambda word: LAYERS[LAYERS.index(word)], f"one of {', '.join(LAYERS)}")


class _Refused:
    """A permission that layers refuse, and the errno."""

    def write(self, value: tuple[int, int]) -> Any:
        return list(value)

    def read(self, data: Any, place: str) -> tuple[int, int]:
        pair = Listed(Number(0, 4095)).read(data, place)
        if len(pair) != 2 or pair[0] not in (1, 2, 4):
            raise wrong(place, data, "4, 2 or 1 and an errno")
        return pair[0], pair[1]


_REFUSED: Form[tuple[int, int]] = _Refused()

BESIDE_POSTURE = (
    Field("program", lambda found: found.program, OrNone(PROGRAM), required=False),
    Field("label", lambda found: found.label, OrNone(Text()), required=False),
    Field("keeps_lists", lambda found: found.keeps_lists, OrNone(Truth()), required=False),
    Field("unknown", lambda found: [what for what, _ in found.unknown], Listed(_UNKNOWN), required=False, default=()),
    Field(
        "unknown_errno",
        lambda found: [number for _, number in found.unknown],
        Listed(_UNREADABLE),
        required=False,
        default=(),
    ),
    Field("other_flags", lambda found: found.other_flags, OrNone(Listed(_OTHER_FLAG)), required=False),
    Field("layer", lambda found: found.layer, OrNone(_LAYER), required=False),
    Field(
        "refused_below",
        lambda found: found.refused_below,
        Listed(_REFUSED),
        required=False,
        default=(),
    ),
)
"""What is known of an object beside its posture; :func:`read_unknown` reads the two that speak of it."""


def read_unknown(found: Fields) -> tuple[tuple[str, int], ...]:
    """What could not be read, each with its errno; EACCES where that was not kept."""
    numbers = (*found["unknown_errno"], *(errno.EACCES for _ in found["unknown"]))
    return tuple(zip(found["unknown"], numbers, strict=False))


class ObjectRecord(Record[Object]):
    """The record of an object, which is that of its posture and more."""

    def __init__(self, accounts: Accounts | None = None) -> None:
        def of_posture(field: Field) -> Field:
            return field._replace(get=lambda found: field.get(found.posture))

        super().__init__(
            _make_object,
            Field("path", lambda found: found.path, PATH),
            *map(of_posture, _posture_fields(accounts)),
            Field("links", lambda found: found.status.links, OrNone(Number()), required=False),
            Field("size", lambda found: found.status.size, OrNone(Number()), required=False),
            Field("mount", lambda found: None if found.mount is None else MOUNT.write(found.mount)),
            Field(
                "changed",
                lambda found: found.status.changed,
                OrNone(Number(-(1 << 63), (1 << 63) - 1)),
                required=False,
            ),
            Field(
                "modified",
                lambda found: found.status.modified,
                OrNone(Number(-(1 << 63), (1 << 63) - 1)),
                required=False,
            ),
            Field(
                "inode",
                lambda found: [found.status.device, found.status.identity.inode],
                OrNone(Listed(Number())),
                required=False,
            ),
            Field("identity", lambda found: found.status.identity, OrNone(IDENTITY), required=False),
            Field("target", lambda found: found.target, OrNone(Text()), required=False),
            Field("script", lambda found: found.script, OrNone(Text()), required=False),
            *BESIDE_POSTURE,
        )


IDENTITY: Record[Identity] = Record(
    lambda found: Identity(**found),
    Field("filesystem", lambda identity: identity.filesystem, Text()),
    Field("inode", lambda identity: identity.inode, Number()),
    Field("birth", lambda identity: identity.birth, Number(-(1 << 63), (1 << 63) - 1), required=False, default=0),
)


def _make_object(found: Fields) -> Object:
    program = found["program"]
    if program is None and found["script"] is not None:
        program = PROGRAM.read({"format": Format.SCRIPT.value, "runs_with": found["script"]}, "script")
    if found["inode"] is not None and len(found["inode"]) != 2:
        raise RecordError("inode", "is right as two numbers, of the device and of the inode")
    device, number = found["inode"] or (0, 0)
    if found["kind"] is Kind.SYMLINK and not found["target"]:
        raise RecordError("target", "is missing; where the symlink leads is right")
    return Object(
        path=found["path"],
        posture=_make_posture(found),
        status=Status(
            identity=found["identity"] or Identity(f"device {device}" if number else "", number),
            links=found["links"] or 1,
            size=found["size"] or 0,
            changed=found["changed"],
            device=device,
            modified=found["modified"],
        ),
        target=found["target"],
        label=found["label"],
        program=program,
        keeps_lists=found["keeps_lists"],
        unknown=read_unknown(found),
        other_flags=found["other_flags"],
        layer=found["layer"],
        refused_below=found["refused_below"],
    )
