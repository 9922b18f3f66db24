"""Many objects: a table of a directory's entries or of its tree, printed as it is read."""

from collections import Counter
from collections.abc import Iterable, Mapping
from typing import Any

from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import letters, octal
from fiat.core.model.posture import Kind, Object
from fiat.core.text import visible
from fiat.render import terminal, words
from fiat.render.columns import Columns

_HEADER = ("mode", "letters", "owner", "group", "more", "name")

_PLURALS = {
    Kind.FILE: ("file", "files"),
    Kind.DIRECTORY: ("directory", "directories"),
    Kind.SYMLINK: ("symlink", "symlinks"),
    Kind.FIFO: ("named pipe", "named pipes"),
    Kind.SOCKET: ("socket", "sockets"),
    Kind.BLOCK: ("block device", "block devices"),
    Kind.CHARACTER: ("character device", "character devices"),
}


def print_listing(top: str, objects: Iterable[Object], accounts: Accounts) -> int:
    """The rows, then what was counted; how many there were. Names are relative to ``top``."""
    columns = Columns(_HEADER)
    kinds: Counter[Kind] = Counter()
    for object_ in objects:
        kinds[object_.posture.kind] += 1
        columns.add(_row(object_, top, accounts))
    columns.flush()
    counts = [words.counted(count, *_PLURALS[kind]) for kind, count in kinds.most_common()]
    print(f"{terminal.INDENT}{', '.join(counts) or 'nothing'}")
    return kinds.total()


def _row(object_: Object, top: str, accounts: Accounts) -> tuple[str, ...]:
    posture = object_.posture
    user, group = accounts.user_numbered(posture.uid), accounts.group_numbered(posture.gid)
    return (
        octal(posture.mode),
        letters(posture.mode),
        visible(user.name) if user else str(posture.uid),
        visible(group.name) if group else str(posture.gid),
        ", ".join(_more(object_)),
        _name(object_, top),
    )


def _more(object_: Object) -> list[str]:
    """What the mode does not tell: lists with the number of their entries, flags, capabilities."""
    posture = object_.posture
    found = []
    if posture.acl is not None:
        found.append(f"list {len(posture.acl.entries)}")
    if posture.default is not None:
        found.append(f"default {len(posture.default.entries)}")
    found += posture.flags or ()
    if posture.capabilities is not None:
        found.append("capabilities")
    return found


def _name(object_: Object, top: str) -> str:
    name = visible(object_.path.removeprefix(top).lstrip("/"))
    kind = object_.posture.kind
    if kind is Kind.DIRECTORY:
        return f"{name}/"
    if kind is Kind.SYMLINK:
        return f"{name} leads to {visible(object_.target or '')}"
    return name if kind is Kind.FILE else f"{name} ({words.KIND[kind]})"


def csv_row(fields: Mapping[str, Any]) -> dict[str, Any]:
    """The fields of ``show`` in one flat row."""
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
        "changed": fields["changed"],
        "target": fields["target"],
        "mount": None if mount is None else mount["point"],
        "mount_options": None if mount is None else mount["options"],
        "remarks": [remark["code"] for remark in fields["remarks"]],
    }
