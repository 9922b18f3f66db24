"""The records of a snapshot in columns, version 2 (docs/formats.md), those of an audit's evidence too: declared once,
written and read by that."""

from collections.abc import Mapping
from typing import NamedTuple

from fiat.core.audit.evidence import SavedFindings, StartedFile
from fiat.core.model import record
from fiat.core.model.accounts import Unknown
from fiat.core.model.host import Settings
from fiat.core.model.posture import Mount, Posture
from fiat.core.model.schema import Field, Listed, Number, OrNone, Record, Text, Truth
from fiat.core.model.view import Namesake, View
from fiat.core.state.capture import FileDigest
from fiat.core.text import Fields
from fiat.core.tree.profile import Profile
from fiat.core.tree.walk import Trouble

SCHEMA = "fiat-snapshot/2"


class Header(NamedTuple):
    """The first line: ``trees`` are the paths of the tops, ``taken`` is in ISO 8601.

    ``unknown_accounts`` is what the sources of accounts did not tell, ``unsure`` are the users whose groups are
    not all known. ``view`` is how a container sees the host, where it was saved so.
    """

    host: str | None
    taken: str | None
    settings: Settings | None
    trees: tuple[str, ...]
    across_mounts: bool
    first_person: int | None
    unknown_accounts: tuple[Unknown, ...] = ()
    unsure: tuple[str, ...] = ()
    view: View | None = None


_UNKNOWN: Record[Unknown] = Record(
    lambda found: Unknown(**found),
    Field("source", lambda one: one.source, Text()),
    Field("what", lambda one: one.what, Text()),
    Field("why", lambda one: one.why, Text()),
    Field("kind", lambda one: one.kind, Text()),
)


_NAMESAKE: Record[Namesake] = Record(
    lambda found: Namesake(**found),
    Field("name", lambda one: one.name, record.NAME),
    Field("uid", lambda one: one.uid, record.ID),
)


VIEW: Record[View] = Record(
    lambda found: View(**found),
    Field("process", lambda view: view.process, Text()),
    Field("numbers", lambda view: view.numbers, OrNone(record.ID_MAP), required=False),
    Field("powers", lambda view: view.powers, record.MASK),
    Field("no_new_privileges", lambda view: view.no_new_privileges, Truth(), required=False, default=False),
    Field("people", lambda view: view.people, Listed(_NAMESAKE)),
)
"""How a container sees the host."""


HEADER: Record[Header] = Record(
    lambda found: Header(**found),
    Field("host", lambda header: header.host, OrNone(Text()), required=False),
    Field("taken", lambda header: header.taken, OrNone(Text()), required=False),
    Field("settings", lambda header: header.settings, OrNone(record.SETTINGS), required=False),
    Field("trees", lambda header: header.trees, Listed(record.PATH)),
    Field("across_mounts", lambda header: header.across_mounts, Truth(), required=False, default=False),
    Field("first_person", lambda header: header.first_person, OrNone(Number()), required=False),
    Field("unknown_accounts", lambda header: header.unknown_accounts, Listed(_UNKNOWN), required=False, default=()),
    Field("unsure", lambda header: header.unsure, Listed(record.NAME), required=False, default=()),
    Field("view", lambda header: header.view, OrNone(VIEW), required=False),
)

_BESIDE = Listed(Text())

MOUNT: Record[Mount] = Record(
    lambda found: Mount(
        found["point"],
        found["type"],
        found["options"],
        found["filesystem_options"] or ("rw",),
        found["covered"],
        tuple((one[0], one[1], one[2]) for one in found["beside"] if len(one) == len(("mount", "here", "there"))),
        found["id_map"],
        found["root"],
    ),
    *record.MOUNT.fields,
    Field("covered", lambda mount: mount.covered, Listed(record.PATH), required=False, default=()),
    Field("beside", lambda mount: mount.beside, Listed(_BESIDE), required=False, default=()),
    Field("root", lambda mount: mount.root, Text(), required=False, default="/"),
)
"""A mount with what decides which of its names are in use, and by which other paths it is seen."""


class Login(NamedTuple):
    """The groups that a login of ``user`` gives, by number, where the lists of the groups do not say it."""

    user: str
    gids: tuple[int, ...]


LOGIN: Record[Login] = Record(
    lambda found: Login(**found),
    Field("user", lambda login: login.user, record.NAME),
    Field("gids", lambda login: login.gids, Listed(record.ID)),
)


class ElevationLine(NamedTuple):
    """Rules by which users act as others, or a part of them: ``json`` goes on where the line before ends."""

    source: str
    addresses: tuple[str, ...] | None
    unread: tuple[str, ...]
    json: str


ELEVATION: Record[ElevationLine] = Record(
    lambda found: ElevationLine(**found),
    Field("source", lambda one: one.source, Text()),
    Field("addresses", lambda one: one.addresses, OrNone(Listed(Text())), required=False),
    Field("unread", lambda one: one.unread, Listed(Text()), required=False, default=()),
    Field("json", lambda one: one.json, Text()),
)

TROUBLE: Record[Trouble] = Record(
    lambda found: Trouble(**found),
    Field("path", lambda trouble: trouble.path, record.PATH),
    Field("errno", lambda trouble: trouble.errno, Number(0, 4095)),
)


DIGEST: Record[FileDigest] = Record(
    lambda found: FileDigest(**found),
    Field("path", lambda digest: digest.path, record.PATH),
    Field("sha256", lambda digest: digest.sha256, Text()),
)


class Rest(NamedTuple):
    """What few profiles do not have in common, its mount by number."""

    profile: Profile
    mount: int | None


def _make_rest(found: Fields) -> Rest:
    posture = Posture(found["kind"], 0, 0, 0, None, found["default"], found["flags"], found["capabilities"])
    profile = Profile(
        posture=posture,
        filesystem=found["filesystem"],
        device=found["device"],
        mount_point=found["mount_point"],
        program=found["program"],
        label=found["label"],
        keeps_lists=found["keeps_lists"],
        unknown=record.read_unknown(found),
        other_flags=found["other_flags"],
        layer=found["layer"],
        refused_below=found["refused_below"],
    )
    return Rest(profile, found["mount"])


REST: Record[Rest] = Record(
    _make_rest,
    Field("kind", lambda rest: rest.profile.posture.kind, record.KIND),
    Field("default", lambda rest: rest.profile.posture.default, OrNone(record.LIST), required=False),
    Field("flags", lambda rest: rest.profile.posture.flags, OrNone(Listed(record.FLAG)), required=False, default=()),
    Field("capabilities", lambda rest: rest.profile.posture.capabilities, OrNone(record.CAPABILITIES), required=False),
    Field("filesystem", lambda rest: rest.profile.filesystem, Text(), required=False, default=""),
    Field("device", lambda rest: rest.profile.device, Number(), required=False, default=0),
    Field("mount", lambda rest: rest.mount, OrNone(Number()), required=False),
    Field("mount_point", lambda rest: rest.profile.mount_point, Truth(), required=False, default=False),
    *(
        field._replace(get=lambda rest, get=field.get: get(rest.profile))  # type: ignore[misc]
        for field in record.BESIDE_POSTURE
    ),
)


class Secret(NamedTuple):
    """What kind of secret was found in the file ``path``."""

    path: str
    kind: str


class LoginSetting(NamedTuple):
    """One thing that logins get, as a snapshot keeps it: what it is, and its value."""

    name: str
    value: str


class LoadedLibraries(NamedTuple):
    """The libraries that the program ``path`` loads."""

    path: str
    libraries: tuple[str, ...]


_SECRET: Record[Secret] = Record(
    lambda found: Secret(**found),
    Field("path", lambda one: one.path, record.PATH),
    Field("kind", lambda one: one.kind, Text()),
)
_SETTING: Record[LoginSetting] = Record(
    lambda found: LoginSetting(**found),
    Field("name", lambda one: one.name, Text()),
    Field("value", lambda one: one.value, Text()),
)
_LOADED: Record[LoadedLibraries] = Record(
    lambda found: LoadedLibraries(**found),
    Field("path", lambda one: one.path, record.PATH),
    Field("libraries", lambda one: one.libraries, Listed(record.PATH)),
)
_STARTED: Record[StartedFile] = Record(
    lambda found: StartedFile(**found),
    Field("path", lambda one: one.path, record.PATH),
    Field("uid", lambda one: one.uid, OrNone(record.ID), required=False),
    Field("by", lambda one: one.by, Text()),
    Field("run", lambda one: one.run, Truth(), required=False, default=True),
    Field("folder", lambda one: one.folder, Truth(), required=False, default=False),
)


def _kept(found: Mapping[str, object]) -> SavedFindings:
    secrets, packaged, started, login, loaded, unread = (
        found[name] for name in ("secrets", "packaged", "started", "login", "loaded", "unread")
    )
    return SavedFindings(
        None if secrets is None else {one.path: one.kind for one in secrets},  # type: ignore[attr-defined]
        None if packaged is None else frozenset(packaged),  # type: ignore[call-overload]
        started,  # type: ignore[arg-type]
        None if login is None else {one.name: one.value for one in login},  # type: ignore[attr-defined]
        None if loaded is None else {one.path: one.libraries for one in loaded},  # type: ignore[attr-defined]
        unread,  # type: ignore[arg-type]
    )


AUDIT: Record[SavedFindings] = Record(
    _kept,
    Field(
        "secrets",
        lambda kept: None if kept.secret_kinds is None else [Secret(*one) for one in kept.secret_kinds.items()],
        OrNone(Listed(_SECRET)),
        required=False,
    ),
    Field(
        "packaged",
        lambda kept: None if kept.privileged is None else sorted(kept.privileged),
        OrNone(Listed(record.PATH)),
        required=False,
    ),
    Field("started", lambda kept: kept.services, OrNone(Listed(_STARTED)), required=False),
    Field(
        "login",
        lambda kept: None if kept.settings is None else [LoginSetting(*one) for one in kept.settings.items()],
        OrNone(Listed(_SETTING)),
        required=False,
    ),
    Field(
        "loaded",
        lambda kept: None if kept.libraries is None else [LoadedLibraries(*one) for one in kept.libraries.items()],
        OrNone(Listed(_LOADED)),
        required=False,
    ),
    Field("unread", lambda kept: kept.unread, Listed(TROUBLE), required=False, default=()),
)
