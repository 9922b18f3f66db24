"""Reading a snapshot: a host in a file, JSON Lines (docs/formats.md)."""

import json
from collections.abc import Iterable, Mapping
from typing import Any

from fiat.core.errors import SnapshotError
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.host import Settings
from fiat.core.model.posture import Mount, Object
from fiat.core.model.record import read_mount, read_object
from fiat.core.text import quoted, visible
from fiat.host.image.host import ImageHost

SCHEMA = "fiat-snapshot/1"


def read(path: str, accounts: Accounts | None = None) -> ImageHost:
    """The host in the snapshot at ``path``, with other accounts if given.

    Raises :class:`SnapshotError` where the file cannot be read, is no
    snapshot, or is cut short; the message names the line.
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
            except SnapshotError as error:
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
        return ImageHost(name, self.objects, accounts or held, self._settings())

    def _parse(self, line: str) -> Mapping[str, Any]:
        try:
            fields = json.loads(line)
        except ValueError as error:
            raise SnapshotError("this is no whole JSON object; the file is damaged or cut short") from error
        if not isinstance(fields, dict):
            raise SnapshotError("this is no JSON object")
        return fields

    def _take(self, fields: Mapping[str, Any]) -> None:
        if self.header is None:
            if fields.get("schema") != SCHEMA:
                raise SnapshotError(f"this is no snapshot: the first line of one has the schema {SCHEMA}")
            self.header = fields
        elif self.ended:
            raise SnapshotError("something follows the last line")
        elif "end" in fields:
            if fields["end"] != self.number - 1:
                raise SnapshotError(f"{fields['end']} lines should come before this one, and {self.number - 1} do")
            self.ended = True
        elif "mount" in fields and "path" not in fields:
            self.mounts.append(read_mount(fields["mount"]))
        elif "user" in fields:
            self.users.append(_user(fields["user"]))
        elif "group" in fields and "path" not in fields:
            self.groups.append(_group(fields["group"]))
        else:
            path = fields.get("path")
            mount = self._mount_of(path) if isinstance(path, str) else None
            self.objects.append(read_object(fields, mount, (0, self.number)))

    def _mount_of(self, path: str) -> Mount | None:
        """The mount with the longest point that holds ``path``."""
        holding = [m for m in self.mounts if path == m.point or path.startswith(m.point.rstrip("/") + "/")]
        return max(holding, key=lambda mount: len(mount.point), default=None)

    def _settings(self) -> Settings:
        given = (self.header or {}).get("settings") or {}
        try:
            return Settings(
                umask=int(str(given.get("umask", "0022")), 8),
                protected_symlinks=bool(given.get("protected_symlinks")),
                protected_regular=int(given.get("protected_regular", 0)),
                protected_fifos=int(given.get("protected_fifos", 0)),
            )
        except (ValueError, TypeError) as error:
            raise SnapshotError(f"{self.source}: the settings in the header are not numbers") from error


def _user(fields: Mapping[str, Any]) -> User:
    try:
        return User(**fields)
    except TypeError as error:
        raise SnapshotError(f"a user has the fields {', '.join(User._fields)}") from error


def _group(fields: Mapping[str, Any]) -> Group:
    try:
        return Group(fields["name"], fields["gid"], tuple(fields["members"]))
    except (KeyError, TypeError) as error:
        raise SnapshotError(f"a group has the fields {', '.join(Group._fields)}") from error
