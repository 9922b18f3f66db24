"""An object as the fields of machine output ``fiat/1``, both ways.

``show`` prints these fields and a snapshot holds them, so what one host shows
another can hold in memory. List entries carry numbers, never names.
"""

from collections.abc import Mapping
from typing import Any

from fiat.core.errors import FiatError, NotationError, SnapshotError
from fiat.core.model import capabilities, mode
from fiat.core.model.accesslist import AccessList, check, parse_entry
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.posture import FLAGS, Kind, Mount, Object, Posture, Status
from fiat.core.text import quoted

Fields = dict[str, Any]
"""One JSON object."""


def posture_fields(posture: Posture, accounts: Accounts) -> Fields:
    """The fields of a posture: kind, mode, letters, special, owner, group, lists, flags, capabilities."""
    user = accounts.user_numbered(posture.uid)
    group = accounts.group_numbered(posture.gid)
    return {
        "kind": posture.kind.value,
        "mode": mode.octal(posture.mode),
        "letters": mode.letters(posture.mode),
        "special": list(mode.special_names(posture.mode)),
        "owner": {"uid": posture.uid, "name": user.name if user else None},
        "group": {"gid": posture.gid, "name": group.name if group else None},
        "acl": _list_field(posture.acl),
        "default": _list_field(posture.default),
        "flags": None if posture.flags is None else list(posture.flags),
        "capabilities": None if posture.capabilities is None else _capability_fields(posture.capabilities),
    }


def object_fields(object_: Object, accounts: Accounts) -> Fields:
    """The fields of ``show`` for one object."""
    fields = {"path": object_.path, **posture_fields(object_.posture, accounts)}
    fields["links"] = object_.status.links
    fields["size"] = object_.status.size
    fields["mount"] = None if object_.mount is None else mount_fields(object_.mount)
    fields["changed"] = object_.status.changed
    fields["inode"] = list(object_.status.inode)
    fields["target"] = object_.target
    fields["script"] = object_.script
    fields["label"] = object_.label
    fields["keeps_lists"] = object_.keeps_lists
    fields["unknown"] = [what for what, _ in object_.unknown]
    return fields


def mount_fields(mount: Mount) -> Fields:
    """The fields of a mount; ``filesystem_options`` are those every mount of it shares."""
    return {
        "point": mount.point,
        "type": mount.type,
        "options": list(mount.options),
        "filesystem_options": list(mount.filesystem_options),
    }


def _list_field(acl: AccessList | None) -> list[str] | None:
    return None if acl is None else acl.texts()


def _capability_fields(value: FileCapabilities) -> Fields:
    return {
        "version": value.version,
        "permitted": capabilities.names(value.permitted),
        "inheritable": capabilities.names(value.inheritable),
        "effective": value.effective,
        "rootid": value.rootid,
    }


# --- back again ------------------------------------------------------------


def read_mount(fields: Mapping[str, Any]) -> Mount:
    """The mount in ``fields``; :class:`SnapshotError` names a field that is missing or wrong."""
    return Mount(
        _field(fields, "point", str),
        _field(fields, "type", str),
        tuple(_field(fields, "options", list)),
        tuple(fields.get("filesystem_options") or ("rw",)),
    )


def read_object(fields: Mapping[str, Any], mount: Mount | None, inode: tuple[int, int]) -> Object:
    """The object in ``fields``; ``inode`` where the fields have none.

    Raises :class:`SnapshotError` that names the field.
    """
    given = fields.get("inode")
    return Object(
        path=_field(fields, "path", str),
        posture=read_posture(fields),
        status=Status(
            links=fields.get("links") or 1,
            size=fields.get("size") or 0,
            changed=fields.get("changed"),
            inode=(given[0], given[1]) if isinstance(given, list) and len(given) == 2 else inode,
        ),
        mount=mount,
        target=fields.get("target"),
        label=fields.get("label"),
        script=fields.get("script"),
        keeps_lists=fields.get("keeps_lists"),
    )


def read_posture(fields: Mapping[str, Any]) -> Posture:
    """The posture in ``fields``; :class:`SnapshotError` names the field at fault."""
    word = _field(fields, "kind", str)
    try:
        kind = Kind(word)
    except ValueError:
        raise SnapshotError(f"{quoted(word)} is no kind; one of {', '.join(kind.value for kind in Kind)} is") from None
    try:
        change = mode.parse_change(_field(fields, "mode", str))
        flags = fields.get("flags", [])
        for flag in flags or ():
            if flag not in FLAGS:
                raise SnapshotError(f"{quoted(str(flag))} is no flag; these are: {', '.join(FLAGS)}")
        return Posture(
            kind=kind,
            mode=change.apply(0, directory=False),
            uid=_number(_field(fields, "owner", dict), "uid"),
            gid=_number(_field(fields, "group", dict), "gid"),
            acl=_read_list(fields.get("acl")),
            default=_read_list(fields.get("default")),
            flags=None if flags is None else tuple(flags),
            capabilities=_read_capabilities(fields.get("capabilities")),
        )
    except SnapshotError:
        raise
    except FiatError as error:
        raise SnapshotError(str(error)) from error


def _read_list(texts: list[str] | None) -> AccessList | None:
    if texts is None:
        return None
    # The order is the kernel's, and is kept. Numbers only: a name here is an error, not something to look up.
    return check(parse_entry(text, _digits, _digits) for text in texts)


def _digits(word: str) -> int:
    if not word.isdecimal():
        raise NotationError(word, f"{quoted(word)} is no number; entries in a snapshot carry numbers")
    return int(word)


def _read_capabilities(fields: Mapping[str, Any] | None) -> FileCapabilities | None:
    if fields is None:
        return None
    return FileCapabilities(
        version=_number(fields, "version"),
        permitted=capabilities.mask_of(_field(fields, "permitted", list)),
        inheritable=capabilities.mask_of(_field(fields, "inheritable", list)),
        effective=bool(fields.get("effective")),
        rootid=fields.get("rootid"),
    )


def _number(fields: Mapping[str, Any], name: str) -> int:
    value: int = _field(fields, name, int)
    return value


def _field(fields: Mapping[str, Any], name: str, kind: type) -> Any:
    value = fields.get(name)
    if not isinstance(value, kind):
        found = "missing" if value is None else f"{type(value).__name__}, not {kind.__name__}"
        raise SnapshotError(f"field {quoted(name)} is {found}")
    return value
