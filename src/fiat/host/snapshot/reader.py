"""Reading a snapshot: a host in a file, JSON Lines (docs/formats.md)."""

from __future__ import annotations

import json
import posixpath
from collections.abc import Iterable, Mapping
from operator import itemgetter
from typing import TYPE_CHECKING, Any, NoReturn

from fiat.core.errors import ElevationError, RecordError, SnapshotError
from fiat.core.model import record
from fiat.core.model.accounts import FIRST_PERSON, Accounts, Group, HeldAccounts, User
from fiat.core.model.host import Settings
from fiat.core.model.posture import Identity, Mount, Object
from fiat.core.model.schema import Field, Number, OrNone, Record, Text
from fiat.core.model.seenaccounts import SeenAccounts
from fiat.core.text import quoted, visible
from fiat.core.tree.walk import Trouble
from fiat.core.words.accountfiles import expect_few_of_a_name
from fiat.host.image.host import ImageHost
from fiat.host.snapshot import records
from fiat.host.snapshot.files import CutShort, lines_of
from fiat.host.snapshot.records import ElevationLine, Header

if TYPE_CHECKING:
    from fiat.core.audit.evidence import Evidence
    from fiat.core.model.elevation import Elevations
    from fiat.host.snapshot.columns import ColumnsReader

SCHEMA = "fiat-snapshot/1"
"""That of a snapshot with a line for each object, as people write it; :mod:`records` has that in columns."""

_OBJECT = record.ObjectRecord()

_HEADER: Record[Header] = Record(
    lambda found: Header(found["host"], found["taken"], found["settings"], (), False, None, view=found["view"]),
    Field("host", itemgetter("host"), OrNone(Text()), required=False),
    Field("taken", itemgetter("taken"), OrNone(Text()), required=False),
    Field("settings", itemgetter("settings"), OrNone(record.SETTINGS), required=False),
    Field("view", itemgetter("view"), OrNone(records.VIEW), required=False),
)


def read(path: str, accounts: Accounts | None = None, *, incomplete: bool = False) -> ImageHost:
    """The host in the snapshot at ``path``, with other accounts if given.

    Raises :class:`SnapshotError` where the file cannot be read, is no
    snapshot, or is cut short; the message names the line and the place in it.
    One that is cut short is used as far as it goes if ``incomplete``.
    """
    reader = _Reader(quoted(path), incomplete)
    try:
        return reader.read(lines_of(path), accounts)
    except OSError as error:
        raise SnapshotError(f"cannot read the snapshot {quoted(path)}: {error.strerror}") from error


def header_of(path: str) -> Header:
    """The first line of a snapshot alone; errors as for :func:`read`, and OSError."""
    reader = _Reader(quoted(path), incomplete=False)
    line = next(iter(lines_of(path)), "")
    reader._take(reader._parse(line))
    assert reader.header is not None
    return reader.header


def accounts_of(path: str) -> Accounts:
    """The accounts that a snapshot lists, which stand before its objects: no more of it is read; errors as for
    :func:`read`."""
    reader = _Reader(quoted(path), incomplete=False)
    try:
        for line in lines_of(path):
            reader.number += 1
            fields = reader._parse(line)
            if "path" in fields or "end" in fields:
                break
            reader._take(fields)
    except OSError as error:
        raise SnapshotError(f"cannot read the snapshot {quoted(path)}: {error.strerror}") from error
    except (RecordError, SnapshotError) as error:
        raise SnapshotError(f"line {reader.number} of {quoted(path)}: {error}") from error
    return Accounts(reader.users, reader.groups, quoted(path))


_AS_FAR = "--incomplete uses it as far as it goes"


class _InLine(SnapshotError):
    """An error that names its line already."""


def _no_number(word: str) -> NoReturn:
    """JSON has no infinity, and nothing that is no number."""
    raise ValueError(word)


_DECODER = json.JSONDecoder(parse_constant=_no_number)


class _Cut(SnapshotError):
    """A line, or what holds the lines, that has no end."""


class _Reader:
    """Reads line by line, and remembers the line for messages."""

    def __init__(self, source: str, incomplete: bool) -> None:
        self.source = source
        self.incomplete = incomplete
        self.number = 0
        self.header: Header | None = None
        self.columns: ColumnsReader | None = None
        self.mounts: list[Mount] = []
        self.mount_at: dict[str, Mount] = {}
        self.users: list[User] = []
        self.groups: list[Group] = []
        self.logins: dict[str, tuple[int, ...]] = {}
        self.objects: dict[str, Object] = {}
        self.left_out: list[str] = []
        self.digests: dict[str, str] = {}
        self.troubles: list[Trouble] = []
        self.ended = False
        self.evidence: Evidence | None = None
        self.elevation: list[ElevationLine] = []
        self.elevation_at = 0

    def read(self, lines: Iterable[str], accounts: Accounts | None) -> ImageHost:
        cut = False
        lines = iter(lines)
        try:
            for line in lines:
                if cut:
                    raise SnapshotError(f"line {self.number} is damaged, and others follow it")
                self.number += 1
                try:
                    self._take(self._parse(line))
                except _Cut as error:
                    cut = self.incomplete
                    if not cut:
                        last = next(lines, None) is None
                        hint = f"; {_AS_FAR}" if last else ""
                        raise _InLine(f"line {self.number} of {self.source}: {error}{hint}") from error
                except (RecordError, SnapshotError) as error:
                    raise _InLine(f"line {self.number} of {self.source}: {error}") from error
        except _InLine:
            raise
        except CutShort as error:
            if not self.incomplete:
                raise SnapshotError(f"cannot read the snapshot {self.source}: {error}; {_AS_FAR}") from error
        except SnapshotError as error:
            raise SnapshotError(f"cannot read the snapshot {self.source}: {error}") from error
        if self.header is None or not (self.ended or self.incomplete):
            raise SnapshotError(
                f"the snapshot {self.source} is cut short after line {self.number}: "
                f"a whole one has a header first and ends with a line that counts the others; {_AS_FAR}"
            )
        try:
            return self._host(self.header, accounts)
        except SnapshotError as error:
            raise SnapshotError(f"the snapshot {self.source} cannot be used: {error}") from error

    def _host(self, header: Header, accounts: Accounts | None) -> ImageHost:
        name = header.host or "unnamed"
        expect_few_of_a_name(self.users, "it")
        lowest = FIRST_PERSON if header.first_person is None else header.first_person
        source = f"the accounts of {visible(name)}"
        listed = (self.users, self.groups, source)
        people: Accounts = HeldAccounts(*listed, lowest, self.logins, header.unknown_accounts, header.unsure)
        if header.view is not None:
            people = SeenAccounts(*listed, header.view, first_person=lowest, unknown=header.unknown_accounts)
        settings = (header.settings or Settings())._replace(cut_short=not self.ended)
        if self.columns is None:
            self._look_at_tree(self.objects)
            whole = ImageHost(name, self.objects.values(), accounts or people, settings)
            whole.taken, whole.evidence, whole.cut = header.taken, self.evidence, not self.ended
            whole.elevations = self._elevations(name)
            return whole
        from fiat.host.snapshot.host import SnapshotHost, SnapshotTrees

        trees = frozenset(header.trees)
        self._expect_trees_apart(trees)
        held = SnapshotTrees(
            header.trees,
            self.columns.profiles,
            self.columns.entries(header.trees),
            tuple(point for point in self.left_out if point not in trees),
            tuple(self.troubles),
            cut=not self.ended,
            across_mounts=header.across_mounts,
        )
        found = SnapshotHost(name, self.objects.values(), accounts or people, settings, held)
        found.taken, found.evidence, found.digests = header.taken, self.evidence, self.digests
        found.elevations = self._elevations(name)
        self._look_at_tree([path for path in self.objects if path not in trees], found)
        return found

    def _expect_trees_apart(self, known: frozenset[str]) -> None:
        """No tree may be in another, but where that one leaves it out: or they would be read again and again."""
        left_out = frozenset(self.left_out)
        for top in known - left_out:
            above = top
            while above != "/":
                above = posixpath.dirname(above)
                if above in known:
                    raise SnapshotError(f"its tree {quoted(top)} is in its tree {quoted(above)}")
                if above in left_out:
                    break

    def _look_at_tree(self, paths: Iterable[str], host: ImageHost | None = None) -> None:
        """Every object must be in a directory that is there too, or nobody could get at it without being told why."""
        if "/" not in self.objects:
            raise SnapshotError("it has no line for the path /")
        for path in paths:
            holder = posixpath.dirname(path)
            try:
                above = self.objects.get(holder) if host is None else host.object_at(holder)
            except OSError:
                above = None
            if above is None or not above.posture.directory:
                lacks = "no line for the directory that holds" if above is None else "no directory as holder of"
                raise SnapshotError(f"it has {lacks} {quoted(path)}")

    def _parse(self, line: str) -> Mapping[str, Any]:
        try:
            fields = _DECODER.decode(line)
        except (ValueError, RecursionError) as error:
            raise _Cut("this is no whole JSON object; the file is damaged or cut short") from error
        if not isinstance(fields, dict):
            raise SnapshotError("this is no JSON object")
        return fields

    def _take(self, fields: Mapping[str, Any]) -> None:
        if self.header is None:
            self._take_header(fields)
        elif self.ended:
            raise SnapshotError("something follows the last line")
        elif "end" in fields:
            count = Number().read(fields["end"], "end")
            if count != self.number - 1:
                raise SnapshotError(f"{count} lines should come before this one, and {self.number - 1} do")
            self.ended = True
        elif "mount" in fields and "path" not in fields:
            form = record.MOUNT if self.columns is None else records.MOUNT
            mount = form.read(fields["mount"], "mount")
            self.mounts.append(mount)
            self.mount_at.setdefault(mount.point, mount)
        elif "audit" in fields and "path" not in fields:
            self._take_audit(fields["audit"])
        elif "elevation" in fields and "path" not in fields:
            self.elevation_at = self.elevation_at or self.number
            self.elevation.append(records.ELEVATION.read(fields["elevation"], "elevation"))
        elif "user" in fields:
            self.users.append(record.USER.read(fields["user"], "user"))
        elif "group" in fields and "path" not in fields:
            self.groups.append(record.GROUP.read(fields["group"], "group"))
        elif self.columns is None or not self._take_columns(self.columns, fields):
            self._take_object(fields)

    def _take_header(self, fields: Mapping[str, Any]) -> None:
        schema = fields.get("schema")
        if schema == SCHEMA:
            self.header = _HEADER.read(fields)
        elif schema == records.SCHEMA:
            from fiat.host.snapshot.columns import ColumnsReader

            self.header = records.HEADER.read(fields)
            self.columns = ColumnsReader()
        else:
            known = f"{SCHEMA} or {records.SCHEMA}"
            raise SnapshotError(f"this is no snapshot: the first line of one has the schema {known}")

    def _elevations(self, name: str) -> Elevations | None:
        if not self.elevation:
            return None
        from fiat.core.words.elevations import parse_elevations

        first = self.elevation[0]
        text = "".join(line.json for line in self.elevation)
        try:
            found = parse_elevations(text, first.source)
        except ElevationError as error:
            raise SnapshotError(f"line {self.elevation_at} of it: {error}") from error
        return found._replace(host=name, addresses=first.addresses, unread=first.unread)

    def _take_audit(self, fields: Any) -> None:
        from fiat.core.audit.evidence import KeptEvidence
        from fiat.host.snapshot.records import AUDIT

        self.evidence = KeptEvidence(AUDIT.read(fields, "audit"))

    def _take_columns(self, columns: ColumnsReader, fields: Mapping[str, Any]) -> bool:
        """Whether this is a line of those that only a snapshot in columns has."""
        if "directory" in fields:
            columns.take_directory(fields)
        elif "profiles" in fields:
            columns.take_profiles(fields["profiles"])
        elif "list" in fields:
            columns.take_list(fields["list"])
        elif "rest" in fields:
            columns.take_rest(fields["rest"], self.mounts)
        elif "login" in fields:
            login = records.LOGIN.read(fields["login"], "login")
            self.logins[login.user] = login.gids
        elif "trouble" in fields:
            self.troubles.append(records.TROUBLE.read(fields["trouble"], "trouble"))
        elif "digest" in fields:
            digest = records.DIGEST.read(fields["digest"], "digest")
            self.digests[digest.path] = digest.sha256
        elif "left_out" in fields:
            self.left_out.append(record.PATH.read(fields["left_out"], "left_out"))
        else:
            return False
        return True

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
        while path not in self.mount_at and path != "/":
            path = posixpath.dirname(path)
        return self.mount_at.get(path)
