"""The evidence of an audit as a snapshot keeps it: one line of both forms (docs/formats.md)."""

from collections.abc import Mapping
from typing import NamedTuple

from fiat.core.audit.evidence import Kept, Started
from fiat.core.model import record
from fiat.core.model.schema import Field, Listed, OrNone, Record, Text, Truth
from fiat.host.snapshot.records import TROUBLE


class Secret(NamedTuple):
    """What kind of secret was found in the file ``path``."""

    path: str
    kind: str


class Setting(NamedTuple):
    """One setting of login.defs(5)."""

    name: str
    value: str


_SECRET: Record[Secret] = Record(
    lambda found: Secret(**found),
    Field("path", lambda one: one.path, record.PATH),
    Field("kind", lambda one: one.kind, Text()),
)
_SETTING: Record[Setting] = Record(
    lambda found: Setting(**found),
    Field("name", lambda one: one.name, Text()),
    Field("value", lambda one: one.value, Text()),
)
_STARTED: Record[Started] = Record(
    lambda found: Started(**found),
    Field("path", lambda one: one.path, record.PATH),
    Field("uid", lambda one: one.uid, OrNone(record.ID), required=False),
    Field("by", lambda one: one.by, Text()),
    Field("run", lambda one: one.run, Truth(), required=False, default=True),
)


def _kept(found: Mapping[str, object]) -> Kept:
    secrets, packaged, started, login, unread = (
        found[name] for name in ("secrets", "packaged", "started", "login", "unread")
    )
    return Kept(
        None if secrets is None else {one.path: one.kind for one in secrets},  # type: ignore[attr-defined]
        None if packaged is None else frozenset(packaged),  # type: ignore[call-overload]
        started,  # type: ignore[arg-type]
        None if login is None else {one.name: one.value for one in login},  # type: ignore[attr-defined]
        unread,  # type: ignore[arg-type]
    )


AUDIT: Record[Kept] = Record(
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
        lambda kept: None if kept.settings is None else [Setting(*one) for one in kept.settings.items()],
        OrNone(Listed(_SETTING)),
        required=False,
    ),
    Field("unread", lambda kept: kept.unread, Listed(TROUBLE), required=False, default=()),
)
