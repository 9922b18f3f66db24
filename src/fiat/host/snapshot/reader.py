"""Reading a snapshot: a host in a file, JSON Lines (docs/formats.md)."""

import json
import posixpath
from collections.abc import Iterable, Mapping
from operator import itemgetter

from fiat.core.errors import RecordError, SnapshotError
from fiat.core.model import record
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.fields import Fields
from fiat.core.model.host import Settings
from fiat.core.model.identity import Identity
from fiat.core.model.mount import Mount
from fiat.core.model.posture import Object
from fiat.core.model.schema import Field, Number, OrNone, Record, Text
from fiat.core.text import quoted, visible
from fiat.core.typed import Any, NoReturn
from fiat.host.image.host import ImageHost
from fiat.host.snapshot.lines import lines_of

SCHEMA = "fiat-snapshot/1"

_OBJECT = record.ObjectRecord()

_HEADER: Record[Fields] = Record(
    dict,
    Field("host", itemgetter("host"), OrNone(Text()), required=False),
    Field("taken", itemgetter("taken"), OrNone(Text()), required=False),
    Field("settings", itemgetter("settings"), OrNone(record.SETTINGS), required=False),
)


def read(path: str, accounts: Accounts | None = None) -> ImageHost:
    """The host in the snapshot at ``path``, with other accounts if given.

    Raises :class:`SnapshotError` where the file cannot be read, is no
    snapshot, or is cut short; the message names the line and the place in it.
    """
    reader = _Reader(quoted(path))
    try:
        return reader.read(lines_of(path), accounts)
    except OSError as error:
        raise SnapshotError(f"cannot read the snapshot {quoted(path)}: {error.strerror}") from error


class _InLine(SnapshotError):
    """An error that names its line already."""


def _no_number(word: str) -> NoReturn:
    """JSON has no infinity, and nothing that is no number."""
    raise ValueError(word)


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
        self.objects: dict[str, Object] = {}
        self.ended = False

    def read(self, lines: Iterable[str], accounts: Accounts | None) -> ImageHost:
        try:
            for line in lines:
                self.number += 1
                try:
                    self._take(self._parse(line))
                except (RecordError, SnapshotError) as error:
                    raise _InLine(f"line {self.number} of {self.source}: {error}") from error
        except _InLine:
            raise
        except SnapshotError as error:
            raise SnapshotError(f"cannot read the snapshot {self.source}: {error}") from error
        if self.header is None or not self.ended:
            raise SnapshotError(
                f"the snapshot {self.source} is cut short after line {self.number}: "
                "a whole one has a header first and ends with a line that counts the others"
            )
        self._look_at_tree()
        name = self.header["host"] or "unnamed"
        held = Accounts(self.users, self.groups, f"the accounts of {visible(name)}")
        return ImageHost(name, self.objects.values(), accounts or held, self.settings)

    def _look_at_tree(self) -> None:
        """Every object must be in a directory that is there too, or nobody could get at it without being told why."""
        if "/" not in self.objects:
            raise SnapshotError(f"the snapshot {self.source} has no line for the path /")
        for path in self.objects:
            above = self.objects.get(posixpath.dirname(path))
            if above is None or not above.posture.directory:
                lacks = "has no line for the directory that holds" if above is None else "has no directory as holder of"
                raise SnapshotError(f"the snapshot {self.source} {lacks} {quoted(path)}")

    def _parse(self, line: str) -> Mapping[str, Any]:
        try:
            fields = json.loads(line, parse_constant=_no_number)
        except (ValueError, RecursionError) as error:
            raise SnapshotError("this is no whole JSON object; the file is damaged or cut short") from error
        if not isinstance(fields, dict):
            raise SnapshotError("this is no JSON object")
        return fields

    def _take(self, fields: Mapping[str, Any]) -> None:
        if self.header is None:
            if fields.get("schema") != SCHEMA:
                raise SnapshotError(f"this is no snapshot: the first line of one has the schema {SCHEMA}")
            self.header = _HEADER.read(fields)
            self.settings = self.header["settings"] or Settings()
        elif self.ended:
            raise SnapshotError("something follows the last line")
        elif "end" in fields:
            count = Number().read(fields["end"], "end")
            if count != self.number - 1:
                raise SnapshotError(f"{count} lines should come before this one, and {self.number - 1} do")
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
        if found.path in self.objects:
            raise SnapshotError(f"there was a line for {quoted(found.path)} before")
        if not found.status.identity.inode:
            identity = Identity("line", self.number)  # of its own, where the snapshot does not say
            found = found._replace(status=found.status._replace(identity=identity))
        self.objects[found.path] = found._replace(mount=self._mount_of(found.path))

    def _mount_of(self, path: str) -> Mount | None:
        """The mount with the longest point that holds ``path``."""
        holding = [m for m in self.mounts if path == m.point or path.startswith(m.point.rstrip("/") + "/")]
        return max(holding, key=lambda mount: len(mount.point), default=None)
