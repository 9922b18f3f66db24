"""Objects in machine output."""

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from fiat.core.model.accounts import Accounts
from fiat.core.model.finding import Finding
from fiat.core.model.posture import Object
from fiat.core.model.record import ObjectRecord
from fiat.core.text import Fields
from fiat.render.findings import finding_fields


class ObjectFields:
    """Writes objects of a host with these accounts."""

    def __init__(self, accounts: Accounts) -> None:
        self._record = ObjectRecord(accounts)

    def of(self, found: Object, remarks: Sequence[Finding]) -> Fields:
        """One object with its remarks."""
        return {**self._record.write(found), "remarks": [finding_fields(remark) for remark in remarks]}


def iso_time(nanoseconds: int | None) -> str | None:
    """A time as spreadsheets read it, to the second: ``2026-11-02T21:40:00Z`` (ISO 8601); None where unknown."""
    if not nanoseconds:
        return None
    return datetime.fromtimestamp(nanoseconds // 10**9, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def flat_row(fields: Mapping[str, Any]) -> Fields:
    """The fields of an object in one flat row."""
    capabilities, mount = fields["capabilities"], fields["mount"]
    return {
        "path": fields["path"],
        "kind": fields["kind"],
        "mode": fields["mode"],
        "letters": fields["letters"],
        "special": fields["special"],
        "owner": fields["owner"]["name"],
        "uid": fields["owner"]["uid"],
        "group": fields["group"]["name"],
        "gid": fields["group"]["gid"],
        "acl": fields["acl"],
        "default": fields["default"],
        "flags": fields["flags"],
        "capabilities": None if capabilities is None else capabilities["permitted"],
        "links": fields["links"],
        "size": fields["size"],
        "changed": iso_time(fields["changed"]),
        "modified": iso_time(fields["modified"]),
        "target": fields["target"],
        "mount": None if mount is None else mount["point"],
        "mount_options": None if mount is None else mount["options"],
        "remarks": [remark["code"] for remark in fields["remarks"]],
    }
