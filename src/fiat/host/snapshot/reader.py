"""Reading a snapshot: a host in a file, JSON Lines (docs/formats.md)."""

import json
from collections.abc import Iterable, Mapping
from typing import Any

from fiat.core.errors import RecordError, SnapshotError
from fiat.core.model import record
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.host import Settings
from fiat.core.model.identity import Identity
from fiat.core.model.mount import Mount
from fiat.core.model.posture import Object
from fiat.core.text import quoted, visible
from fiat.host.image.host import ImageHost

SCHEMA = "fiat-snapshot/1"

_OBJECT = record.ObjectRecord()


def read(path: str, accounts: Accounts | None = None) -> ImageHost:
    """The host in the snapshot at ``path``, with other accounts if given.

    Raises :class:`SnapshotError` where the file cannot be read, is no
    snapshot, or is cut short; the message names the line and the place in it.
    """
    try:
        with open(path, encoding="utf-8", errors="surrogateescape") as file:
            return _Reader(quoted(path)).read(file, accounts)
    except OSError as error:
        raise SnapshotError(f"cannot read the snapshot {quoted(path)}: {error.strerror}") from error


class _Reader:
    """Reads line by line, and remembers the line for messages."""

    def __init__(self, source: str) -> None:
        self.source = source
        self.number = 0
        self.header: Mapping[str, Any] | None = None
        self.settings = Settings()
        self.mounts: list[Mount] = []
        self.users: list[User] = []
        self.groups: list[Group] = []
        self.objects: list[Object] = []
        self.ended = False

    def read(self, lines: Iterable[str], accounts: Accounts | None) -> ImageHost:
        for line in lines:
            self.number += 1
            try:
                self._take(self._parse(line))
            except (RecordError, SnapshotError) as error:
                raise SnapshotError(f"line {self.number} of {self.source}: {error}") from error
        if self.header is None or not self.ended:
            raise SnapshotError(
                f"the snapshot {self.source} is cut short after line {self.number}: "
                "a whole one has a header first and ends with a line that counts the others"
            )
        if not any(object_.path == "/" for object_ in self.objects):
            raise SnapshotError(f"the snapshot {self.source} has no line for the path /")
        name = str(self.header.get("host", "unnamed"))
        held = Accounts(self.users, self.groups, f"the accounts of {visible(name)}")
        return ImageHost(name, self.objects, accounts or held, self.settings)

    def _parse(self, line: str) -> Mapping[str, Any]:
        try:
            fields = json.loads(line)
        except (ValueError, RecursionError) as error:
            raise SnapshotError("this is no whole JSON object; the file is damaged or cut short") from error
        if not isinstance(fields, dict):
            raise SnapshotError("this is no JSON object")
        return fields

    def _take(self, fields: Mapping[str, Any]) -> None:
        if self.header is None:
            if fields.get("schema") != SCHEMA:
                raise SnapshotError(f"this is no snapshot: the first line of one has the schema {SCHEMA}")
            self.header = fields
            self.settings = record.SETTINGS.read(fields.get("settings") or {}, "settings")
        elif self.ended:
            raise SnapshotError("something follows the last line")
        elif "end" in fields:
            if fields["end"] != self.number - 1:
                raise SnapshotError(f"{fields['end']} lines should come before this one, and {self.number - 1} do")
            self.ended = True
        elif "mount" in fields and "path" not in fields:
            self.mounts.append(record.MOUNT.read(fields["mount"], "mount"))
        elif "user" in fields:
            self.users.append(record.USER.read(fields["user"], "user"))
        elif "group" in fields and "path" not in fields:
            self.groups.append(record.GROUP.read(fields["group"], "group"))
        else:
            self._take_object(fields)

    def _take_object(self, fields: Mapping[str, Any]) -> None:
        found = _OBJECT.read(fields)
        if not found.status.identity.inode:
            identity = Identity("line", self.number)  # of its own, where the snapshot does not say
            found = found._replace(status=found.status._replace(identity=identity))
        self.objects.append(found._replace(mount=self._mount_of(found.path)))

    def _mount_of(self, path: str) -> Mount | None:
        """The mount with the longest point that holds ``path``."""
        holding = [m for m in self.mounts if path == m.point or path.startswith(m.point.rstrip("/") + "/")]
        return max(holding, key=lambda mount: len(mount.point), default=None)
